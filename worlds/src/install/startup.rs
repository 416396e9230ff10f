//! What starts by itself, or is started: services, startup entries, tasks, shortcuts.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::names::guid;
use crate::product::Setup;

pub(super) fn install(one: &mut Installing<'_>) {
    shortcuts(one);
    if one.once_in(3) {
        service(one);
    }
    if one.once_in(3) {
        at_sign_in(one);
    }
    if one.once_in(3) {
        task(one);
    }
    if one.once_in(4) {
        let program = one.product().program();
        one.machine.running.push(program);
    }
}

fn shortcuts(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("shortcut");
    let menu = match product.setup {
        Setup::PerUser => {
            one.machine.users[product.user].folder("AppData\\Roaming\\Microsoft\\Windows\\Start Menu\\Programs")
        }
        _ => "C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs".to_owned(),
    };
    let in_folder = one.rng.bool();
    let path = if in_folder {
        format!("{menu}\\{}\\{}.lnk", product.below(), product.plain())
    } else {
        format!("{menu}\\{}.lnk", product.plain())
    };
    one.machine.shortcut(&path, &product.program(), mark.clone());
    if in_folder && one.rng.bool() {
        let uninstall = format!("{menu}\\{}\\Uninstall.lnk", product.below());
        one.machine.shortcut(&uninstall, &format!("{}\\uninstall.exe", product.folder), mark.clone());
    }
    if one.once_in(3) {
        let desktop = match product.setup {
            Setup::PerUser => one.machine.users[product.user].folder("Desktop"),
            _ => "C:\\Users\\Public\\Desktop".to_owned(),
        };
        one.machine.shortcut(&format!("{desktop}\\{}.lnk", product.plain()), &product.program(), mark);
    }
}

fn service(one: &mut Installing<'_>) {
    let product = one.product();
    let name = format!("{}Service", product.together());
    let program = format!("{}\\{}svc.exe", product.folder, product.short);
    one.machine.program(&program, &product.publisher.told, &product.name, one.mark("program folder"));
    let image = match one.rng.u8(..3) {
        0 => format!("\"{program}\" -run"),
        1 => program.clone(),
        _ => format!("\\??\\{program}"),
    };
    let mark = one.mark("service");
    let key = format!("HKLM\\SYSTEM\\ControlSet001\\Services\\{name}");
    one.machine.own_key(&key, &[("ImagePath", &image), ("DisplayName", &product.name)], mark.clone());
    one.machine.key(&format!("{key}\\Parameters"), mark);
    if one.rng.bool() {
        let key = format!("HKLM\\SYSTEM\\ControlSet001\\Services\\EventLog\\Application\\{name}");
        one.machine.own_key(&key, &[("EventMessageFile", &program)], one.mark("event source"));
    }
}

fn at_sign_in(one: &mut Installing<'_>) {
    let product = one.product();
    let command = format!("\"{}\" /tray", product.program());
    let user = &one.machine.users[product.user];
    let (run, switches) = match product.setup {
        Setup::PerUser => (
            user.key(&format!("SOFTWARE\\{CURRENT}\\Run")),
            user.key(&format!("SOFTWARE\\{CURRENT}\\Explorer\\StartupApproved\\Run")),
        ),
        _ => {
            let list = if product.is_32 { "Run32" } else { "Run" };
            (
                format!("{}\\{CURRENT}\\Run", product.software()),
                format!("HKLM\\SOFTWARE\\{CURRENT}\\Explorer\\StartupApproved\\{list}"),
            )
        }
    };
    let mark = one.mark("startup entry");
    one.machine.value(&run, RegValue::text(&product.name, &command), mark.clone());
    if one.rng.bool() {
        let switch = RegValue { name: product.name.clone(), kind: 3, data: vec![2; 12] };
        one.machine.value(&switches, switch, mark);
    }
}

fn task(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("task");
    let (folder, plain) = (product.publisher.folder.clone(), product.plain());
    let names = match one.rng.u8(..4) {
        0 => vec![format!("{folder}\\{plain} Update")],
        1 => vec![format!("{plain} Update")],
        2 => vec![format!("{folder}\\{plain} Update"), format!("{folder}\\{plain} Report")],
        _ => vec![format!("{}UpdateTaskMachine", product.together())],
    };
    let command = format!("\"{}\\update.exe\" /quiet", product.folder);
    let cache = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache";
    for name in names {
        let id = guid(one.rng);
        one.machine.task(&format!("C:\\Windows\\System32\\Tasks\\{name}"), &command, mark.clone());
        one.machine.own_key(&format!("{cache}\\Tree\\{name}"), &[("Id", &id)], mark.clone());
        one.machine.own_key(&format!("{cache}\\Tasks\\{id}"), &[("Path", &format!("\\{name}"))], mark.clone());
        one.machine.key(&format!("{cache}\\Plain\\{id}"), mark.clone());
    }
}
