//! An older version of the same product beside it, in a folder and with an entry of its own.

use super::{CURRENT, Installing};
use crate::names::guid;
use crate::product::Setup;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    if product.setup == Setup::PerUser {
        return;
    }
    let (major, minor) = (one.rng.u8(1..4), one.rng.u8(..10));
    let folder = format!("{} {major}.{minor}", product.folder);
    let mark = one.mark("older version");
    one.machine.folder(&folder, mark.clone());
    let (company, name) = (&product.publisher.told, &product.name);
    one.machine.program(&format!("{folder}\\{}.exe", product.short), company, name, mark.clone());
    one.machine.file(&format!("{folder}\\core.dll"), mark.clone());
    let key = format!("{}\\{CURRENT}\\Uninstall\\{}", product.software(), guid(one.rng));
    let shown = format!("{name} {major}.{minor}");
    let values =
        [("DisplayName", shown.as_str()), ("Publisher", &product.publisher.listed), ("InstallLocation", &folder)];
    one.machine.own_key(&key, &values, mark);
}
