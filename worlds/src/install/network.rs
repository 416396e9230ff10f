//! Rules of the firewall, search paths and variables, and what is tied into the network.

use stubble_core::model::RegValue;

use super::Installing;
use crate::machine::{Class, Layer};
use crate::names::guid;
use crate::product::Setup;
use crate::windows::SOCKETS;

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
    if one.once_in(8) {
        layers(one);
    }
    if one.once_in(12) {
        component(one);
    }
}

/// A library that programs' connections pass through, and one that looks names up.
fn layers(one: &mut Installing<'_>) {
    let product = one.product();
    let library = format!("{}\\{}net.dll", product.folder, product.short);
    one.machine.program(&library, &product.publisher.told, &product.name, one.mark("program folder"));
    let id = 2000 + 10 * one.number as u32;
    let bare = Layer { library, protocol: None };
    for list in ["Catalog_Entries", "Catalog_Entries64"] {
        let names = format!("{SOCKETS}\\NameSpace_Catalog5\\{list}");
        one.machine.layer(&names, bare.clone(), one.mark("network layer"));
        // The layer itself, and one of Windows' protocols through it.
        let protocols = format!("{SOCKETS}\\Protocol_Catalog9\\{list}");
        for (number, chain) in [(id, Vec::new()), (id + 1, vec![id, 1001])] {
            let layer = Layer { protocol: Some((number, chain)), ..bare.clone() };
            one.machine.layer(&protocols, layer, one.mark("network layer"));
        }
    }
}

/// A service that network adapters are bound to: it stays until it is uninstalled where it was bound.
fn component(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("network component").as_class(Class::Stays);
    let name = format!("{}Bind", product.together());
    let program = format!("{}\\{}bind.exe", product.folder, product.short);
    one.machine.program(&program, &product.publisher.told, &product.name, mark.clone());
    let service = format!("{CONTROL}\\Services\\{name}");
    one.machine.own_key(&service, &[("ImagePath", &format!("\"{program}\""))], mark.clone());
    let class = "{4D36E974-E325-11CE-BFC1-08002BE10318}";
    let key = format!("{CONTROL}\\Control\\Network\\{class}\\{}", guid(one.rng));
    let id = format!("{}_bind", product.short.to_lowercase());
    one.machine.own_key(&key, &[("ComponentId", &id), ("Description", &product.name)], mark.clone());
    one.machine.own_key(&format!("{key}\\Ndi"), &[("Service", &name)], mark);
}
