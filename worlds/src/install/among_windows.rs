//! What products put among Windows' own: services in hosts, entries in keys that all share, values of Windows that they
//! point at themselves; and what lies among theirs and is a person's, or everybody's.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::machine::{Class, Mark, Whose};
use crate::names::guid;
use crate::product::Setup;

const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001";
const CLASSES: &str = "HKLM\\SOFTWARE\\Classes";

pub(super) fn install(one: &mut Installing<'_>) {
    persons(one);
    install_key(one);
    if one.product().setup == Setup::PerUser {
        return;
    }
    if one.once_in(6) {
        hosted_service(one);
    }
    if one.once_in(5) {
        shared_classes(one);
    }
    if one.once_in(6) {
        re_pointed(one);
    }
    if one.once_in(6) {
        counted(one);
    }
    if one.once_in(8) {
        run_time(one);
    }
    launcher(one);
}

/// A service whose program is a library in a host of Windows, or which a wrapper starts.
fn hosted_service(one: &mut Installing<'_>) {
    let product = one.product();
    let name = format!("{}Hosted", product.together());
    let key = format!("{CONTROL}\\Services\\{name}");
    let mark = one.mark("hosted service");
    let library = format!("{}\\{}host.dll", product.folder, product.short);
    one.machine.program(&library, &product.publisher.told, &product.name, one.mark("program folder"));
    let (image, told) = match one.rng.bool() {
        true => ("%SystemRoot%\\System32\\svchost.exe -k netsvcs", "ServiceDll"),
        false => ("C:\\Windows\\System32\\rundll32.exe", "Application"),
    };
    one.machine.own_key(&key, &[("ImagePath", image)], mark.clone());
    one.machine.own_key(&format!("{key}\\Parameters"), &[(told, &library)], mark);
}

/// Entries in keys of classes in which everybody has some.
fn shared_classes(one: &mut Installing<'_>) {
    let product = one.product();
    let windows = Mark::windows;
    let own = guid(one.rng);
    let class = format!("{CLASSES}\\CLSID\\{own}");
    let mark = one.mark("class");
    one.machine.own_key(&class, &[("", &product.name)], mark.clone());
    let server = format!("{}\\shell.dll", product.folder);
    one.machine.file(&server, one.mark("program folder"));
    one.machine.own_key(&format!("{class}\\InprocServer32"), &[("", &server)], mark);
    for (holder, others) in [("PROTOCOLS\\Handler", "about"), ("PROTOCOLS\\Filter", "text/xml")] {
        one.machine.own_key(
            &format!("{CLASSES}\\{holder}\\{others}"),
            &[("CLSID", "{3050F406-98B5-11CF-BB82-00AA00BDCE0B}")],
            windows(),
        );
    }
    let handler = format!("{CLASSES}\\PROTOCOLS\\Handler\\{}", product.short);
    one.machine.own_key(&handler, &[("CLSID", &own)], one.mark("class"));
    let background = format!("{CLASSES}\\DesktopBackground\\Shell");
    one.machine.own_key(
        &format!("{background}\\Display"),
        &[("", "@%SystemRoot%\\System32\\display.dll,-4")],
        windows(),
    );
    let verb = format!("{background}\\{}", product.plain());
    let mark = one.mark("verb");
    one.machine.key(&verb, mark.clone());
    one.machine.own_key(&format!("{verb}\\command"), &[("", &format!("\"{}\"", product.program()))], mark);
}

/// Values of Windows that lead to the product now: they are to be set back.
fn re_pointed(one: &mut Installing<'_>) {
    let product = one.product();
    let open = format!("{CLASSES}\\txtfile\\shell\\open\\command");
    let winlogon = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon";
    let (key, name, text) = match one.rng.u8(..3) {
        0 => (open.as_str(), "", format!("\"{}\" \"%1\"", product.program())),
        1 => (winlogon, "Shell", product.program()),
        _ => (winlogon, "Userinit", format!("C:\\Windows\\system32\\userinit.exe,{}", product.program())),
    };
    let known = one.machine.values.get(&(key.to_owned(), name.to_owned()));
    if known.is_none_or(|(_, mark)| mark.whose == Whose::Windows) {
        one.machine.value(key, RegValue::text(name, &text), one.mark("value of Windows"));
    }
}

/// A file in a common folder that products count which are on no list.
fn counted(one: &mut Installing<'_>) {
    let product = one.product();
    let path = format!("C:\\Program Files\\Common Files\\{}\\codec{}.dll", product.publisher.folder, one.number);
    let mark = Mark { whose: Whose::Shared(vec![one.number]), class: Class::Stays, kind: "counted file" };
    one.machine.program(&path, &product.publisher.told, &product.name, mark.clone());
    let counts = format!("{}\\{CURRENT}\\SharedDLLs", product.software());
    let count = RegValue::dword(&path, 2 + u32::from(one.rng.u8(..3)));
    one.machine.value(&counts, count, mark);
}

/// A run-time on which the product and somebody else depend.
fn run_time(one: &mut Installing<'_>) {
    let product = one.product();
    let other = guid(one.rng);
    let mark = Mark { whose: Whose::Shared(vec![one.number]), class: Class::Stays, kind: "shared provider" };
    let list = format!("HKLM\\SOFTWARE\\{CURRENT}\\Uninstall\\{other}");
    one.machine.own_key(&list, &[("DisplayName", "Weighbridge Terminal"), ("Publisher", "Tollgate")], mark.clone());
    let provider = format!("{CLASSES}\\Installer\\Dependencies\\Common.Runtime,amd64,14.{},bundle", one.number);
    one.machine.own_key(&provider, &[("", &guid(one.rng)), ("DisplayName", "Common Run-time 14")], mark.clone());
    one.machine.key(&format!("{provider}\\Dependents\\{other}"), mark);
    one.machine.key(&format!("{provider}\\Dependents\\{}", product.code), one.mark("provider key"));
}

/// A launcher that serves all products of a publisher.
fn launcher(one: &mut Installing<'_>) {
    let product = one.product();
    let is_sibling = |other: &&crate::product::Product| {
        other.publisher.listed == product.publisher.listed && other.setup != Setup::PerUser
    };
    if one.all.iter().filter(is_sibling).count() < 2 || !one.once_in(3) {
        return;
    }
    let siblings: Vec<usize> = (0..one.all.len()).filter(|at| is_sibling(&&one.all[*at])).collect();
    let mark = Mark { whose: Whose::Shared(siblings), class: Class::Stays, kind: "launcher" };
    let folder = format!("C:\\ProgramData\\{}\\Launcher", product.publisher.folder);
    let name = format!("{} Launcher", product.publisher.brand);
    one.machine.program(&format!("{folder}\\launcher.exe"), &product.publisher.told, &name, mark.clone());
    one.machine.file(&format!("{folder}\\products.json"), mark);
}

/// What people have made and put where the product keeps its own.
fn persons(one: &mut Installing<'_>) {
    let product = one.product();
    let user = one.machine.users[product.user].clone();
    let below = product.below();
    let mark = Mark { whose: Whose::Persons, class: Class::Documents, kind: "documents" };
    for (folder, name) in [
        (format!("C:\\ProgramData\\{below}\\projects"), "spring.docx"),
        (format!("C:\\ProgramData\\{below}\\projects"), "spring.wqx"),
        (user.folder(&format!("AppData\\Local\\{below}\\saved")), "weighing.mdb"),
        (user.folder(&format!("AppData\\Local\\{below}\\saved")), "weighing.wqx"),
        (user.folder(&format!("AppData\\LocalLow\\{below}")), "own list.xlsx"),
        (format!("{}\\projects", product.folder), "own work.pdf"),
    ] {
        if one.once_in(12) {
            one.machine.file(&format!("{folder}\\{name}"), mark.clone());
        }
    }
}

/// A user's key that says where and which version is installed, and no more.
fn install_key(one: &mut Installing<'_>) {
    let product = one.product();
    let key = one.machine.users[product.user].key(&format!("SOFTWARE\\{}", product.below()));
    if one.once_in(6) && !one.machine.keys.contains_key(&key) {
        let values = [("InstallPath", product.folder.as_str()), ("Version", &product.version)];
        one.machine.own_key(&key, &values, one.mark("user install key"));
    }
}
