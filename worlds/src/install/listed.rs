//! The entry in the list of programs.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::product::Setup;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("list entry");
    let key = match product.setup {
        Setup::PerUser => {
            one.machine.users[product.user].key(&format!("SOFTWARE\\{CURRENT}\\Uninstall\\{}", product.code))
        }
        _ => format!("{}\\{CURRENT}\\Uninstall\\{}", product.software(), product.code),
    };
    let shown = match one.rng.u8(..4) {
        0 => product.name.clone(),
        1 => format!("{} {}", product.name, product.version),
        2 => format!("{} version {}", product.name, product.version),
        _ => format!("{} {} ({}-bit)", product.name, product.version, if product.is_32 { 32 } else { 64 }),
    };
    let uninstall = match product.setup {
        Setup::Package => format!("MsiExec.exe /X{}", product.code),
        _ => format!("\"{}\\uninstall.exe\" /quiet", product.folder),
    };
    let values = [
        ("DisplayName", shown.as_str()),
        ("DisplayVersion", &product.version),
        ("Publisher", &product.publisher.listed),
        ("UninstallString", &uninstall),
    ];
    one.machine.own_key(&key, &values, mark.clone());
    if !one.once_in(4) {
        let end = if one.rng.bool() { "\\" } else { "" };
        let location = format!("{}{end}", product.folder);
        one.machine.value(&key, RegValue::text("InstallLocation", &location), mark.clone());
    }
    if one.rng.bool() {
        let icon = format!("{},0", product.program());
        one.machine.value(&key, RegValue::text("DisplayIcon", &icon), mark.clone());
    }
    if product.setup != Setup::Package {
        one.machine.file(&format!("{}\\uninstall.exe", product.folder), one.mark("program folder"));
    }
}
