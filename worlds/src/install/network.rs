//! Rules of the firewall, search paths and variables.

use stubble_core::model::RegValue;

use super::Installing;
use crate::names::guid;
use crate::product::Setup;

const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001";

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    if one.once_in(3) {
        let rules = format!("{CONTROL}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules");
        let spelled = product.program().replace("C:\\Program Files\\", "%ProgramFiles%\\");
        let text = format!("v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|App={spelled}|Name={}|", product.name);
        let name = guid(one.rng);
        one.machine.value(&rules, RegValue::text(&name, &text), one.mark("firewall rule"));
    }
    let environment = match product.setup {
        Setup::PerUser => one.machine.users[product.user].key("Environment"),
        _ => format!("{CONTROL}\\Control\\Session Manager\\Environment"),
    };
    if one.once_in(4) {
        let entry = match one.rng.u8(..3) {
            0 => format!("{}\\", product.folder),
            1 => format!("{}\\bin", product.folder),
            _ => product.folder.clone(),
        };
        one.machine.entry(&environment, "Path", &entry, one.mark("search path"));
    }
    if one.once_in(6) {
        let name = format!("{}_HOME", product.short.to_uppercase());
        one.machine.value(&environment, RegValue::text(&name, &product.folder), one.mark("variable"));
    }
}
