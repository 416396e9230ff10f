//! What programs register with the shell and with each other: classes, file types, protocols,
//! paths, add-ins.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::names::guid;
use crate::product::Setup;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let classes = match product.setup {
        Setup::PerUser => format!("{}_Classes", one.machine.users[product.user].key("").trim_end_matches('\\')),
        _ => "HKLM\\SOFTWARE\\Classes".to_owned(),
    };
    if one.rng.bool() {
        file_type(one, &classes);
    }
    if one.once_in(4) && product.setup != Setup::PerUser {
        let key = format!("HKLM\\SOFTWARE\\{CURRENT}\\App Paths\\{}.exe", product.short);
        one.machine.own_key(&key, &[("", &product.program()), ("Path", &product.folder)], one.mark("app path"));
    }
    if one.once_in(4) {
        let key = format!("{classes}\\{}-link", product.short);
        let mark = one.mark("protocol");
        one.machine.own_key(&key, &[("URL Protocol", "")], mark.clone());
        one.machine.own_key(
            &format!("{key}\\shell\\open\\command"),
            &[("", &format!("\"{}\" \"%1\"", product.program()))],
            mark,
        );
    }
    if one.once_in(3) {
        class(one, &classes);
    }
    if one.once_in(6) && product.folder.starts_with("C:\\Program Files\\") {
        // Written with the short name of the folder above.
        let key = format!("{classes}\\Folder\\shell\\{}", product.plain());
        let short = product.program().replacen("C:\\Program Files\\", "C:\\PROGRA~1\\", 1);
        let mark = one.mark("verb");
        one.machine.own_key(&key, &[("", &format!("Open with {}", product.name))], mark.clone());
        one.machine.own_key(&format!("{key}\\command"), &[("", &format!("{short} \"%1\""))], mark);
    }
    if one.once_in(6) {
        let key = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\AppCompatFlags\\Layers";
        one.machine.value(key, RegValue::text(&product.program(), "~ RUNASADMIN"), one.mark("compatibility layer"));
    }
}

fn file_type(one: &mut Installing<'_>, classes: &str) {
    let product = one.product();
    let mark = one.mark("file type");
    let class = format!("{}.Document", product.together());
    let extension = format!("{classes}\\.{}", product.extension);
    one.machine.own_key(&extension, &[("", &class)], mark.clone());
    one.machine.own_key(&format!("{extension}\\OpenWithProgids"), &[(&class, "")], mark.clone());
    one.machine.own_key(&format!("{classes}\\{class}"), &[("", &product.name)], mark.clone());
    let icon = format!("{},1", product.program());
    one.machine.own_key(&format!("{classes}\\{class}\\DefaultIcon"), &[("", &icon)], mark.clone());
    let command = format!("\"{}\" \"%1\"", product.program());
    one.machine.own_key(&format!("{classes}\\{class}\\shell\\open\\command"), &[("", &command)], mark.clone());
    if one.rng.bool() {
        let key = format!("{classes}\\Applications\\{}.exe\\shell\\open\\command", product.short);
        one.machine.own_key(&key, &[("", &command)], mark.clone());
        one.machine.key(&format!("{classes}\\Applications\\{}.exe", product.short), mark);
    }
}

/// A class with its server, its name, its library of types; a menu of the shell; an add-in that
/// another product loads.
fn class(one: &mut Installing<'_>, classes: &str) {
    let product = one.product();
    let (id, library) = (guid(one.rng), guid(one.rng));
    let server = match one.rng.u8(..3) {
        0 => format!("{}\\core.dll", product.folder),
        1 => format!("\"{}\\core.dll\"", product.folder),
        _ => format!("C:\\Windows\\System32\\rundll32.exe \"{}\\core.dll\",Serve", product.folder),
    };
    let name = format!("{}.Menu", product.together());
    let mark = one.mark("class");
    let kind = if server.contains("rundll32") { "LocalServer32" } else { "InprocServer32" };
    let root = if product.is_32 && !classes.starts_with("HKU") {
        format!("{classes}\\WOW6432Node")
    } else {
        classes.to_owned()
    };
    let own = format!("{root}\\CLSID\\{id}");
    one.machine.own_key(&own, &[("", &product.name)], mark.clone());
    one.machine.own_key(&format!("{own}\\{kind}"), &[("", &server), ("ThreadingModel", "Both")], mark.clone());
    one.machine.own_key(&format!("{own}\\ProgID"), &[("", &name)], mark.clone());
    one.machine.own_key(&format!("{own}\\TypeLib"), &[("", &library)], mark.clone());
    one.machine.own_key(&format!("{classes}\\{name}\\CLSID"), &[("", &id)], mark.clone());
    one.machine.own_key(&format!("{classes}\\{name}"), &[("", &product.name)], mark.clone());
    let types = format!("{classes}\\TypeLib\\{library}");
    one.machine.key(&types, one.mark("type library"));
    let path = format!("{}\\core.dll", product.folder);
    one.machine.own_key(&format!("{types}\\1.0"), &[("", &product.name)], one.mark("type library"));
    one.machine.own_key(&format!("{types}\\1.0\\0\\win64"), &[("", &path)], one.mark("type library"));
    one.machine.key(&format!("{types}\\1.0\\0"), one.mark("type library"));
    if one.rng.bool() {
        let menu = format!("{classes}\\*\\shellex\\ContextMenuHandlers\\{}", product.plain());
        one.machine.own_key(&menu, &[("", &id)], one.mark("shell extension"));
        if classes.starts_with("HKLM") {
            let approved = format!("HKLM\\SOFTWARE\\{CURRENT}\\Shell Extensions\\Approved");
            one.machine.value(&approved, RegValue::text(&id, &product.name), one.mark("shell extension"));
        }
    }
    let hosts: Vec<usize> = (0..one.number).collect();
    if !hosts.is_empty() && one.rng.bool() {
        let host = &one.all[hosts[one.rng.usize(..hosts.len())]];
        let key = format!("HKLM\\SOFTWARE\\{}\\Addins\\{name}", host.below());
        one.machine.own_key(&key, &[("FriendlyName", &product.name), ("LoadBehavior", "3")], one.mark("add-in"));
    }
}
