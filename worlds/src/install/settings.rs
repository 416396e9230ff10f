//! What Windows keeps for programs, and what they keep among Windows' own: settings by the name of a
//! program's file, first sign-ins, defaults, printers, certificates.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::machine::Class;
use crate::names::guid;
use crate::product::Setup;

const NT: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion";

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    if product.setup == Setup::PerUser {
        return;
    }
    if one.once_in(6) {
        let mark = one.mark("program settings");
        let key = format!("{NT}\\Image File Execution Options\\{}.exe", product.short);
        one.machine.key(&key, mark.clone());
        one.machine.value(&key, RegValue::dword("MitigationOptions", 1), mark.clone());
        let dumps = "HKLM\\SOFTWARE\\Microsoft\\Windows\\Windows Error Reporting\\LocalDumps";
        let key = format!("{dumps}\\{}.exe", product.short);
        one.machine.key(&key, mark.clone());
        one.machine.value(&key, RegValue::dword("DumpType", 2), mark);
    }
    if one.once_in(8) {
        // It takes over from a program of Windows, whose other settings stay.
        let key = format!("{NT}\\Image File Execution Options\\notepad.exe");
        one.machine.value(&key, RegValue::dword("UseFilter", 0), crate::machine::Mark::windows());
        let debugger = RegValue::text("Debugger", &format!("\"{}\" /edit", product.program()));
        if !one.machine.values.contains_key(&(key.clone(), "Debugger".to_owned())) {
            one.machine.value(&key, debugger, one.mark("program settings"));
        }
    }
    if one.once_in(6) {
        let key = format!("{}\\Microsoft\\Active Setup\\Installed Components\\{}", product.software(), guid(one.rng));
        let stub = format!("\"{}\" /first", product.program());
        one.machine.own_key(&key, &[("", &product.name), ("StubPath", &stub)], one.mark("first sign-in"));
    }
    if one.once_in(6) {
        let key = format!("{}\\{CURRENT}\\RunOnce", product.software());
        let command = format!("\"{}\\update.exe\" /finish", product.folder);
        one.machine.value(
            &key,
            RegValue::text(&format!("{}Finish", product.short), &command),
            one.mark("startup entry"),
        );
    }
    if one.once_in(6) {
        let settings = format!("SOFTWARE\\{}\\Capabilities", product.below());
        let value = RegValue::text(&product.name, &settings);
        one.machine.value("HKLM\\SOFTWARE\\RegisteredApplications", value, one.mark("default program"));
        one.machine.own_key(
            &format!("HKLM\\{settings}"),
            &[("ApplicationName", &product.name)],
            one.mark("machine key"),
        );
    }
    if one.once_in(8) {
        let drivers = "HKLM\\SYSTEM\\ControlSet001\\Control\\Print\\Environments\\Windows x64\\Drivers\\Version-3";
        let key = format!("{drivers}\\{} Printer", product.name);
        let values =
            [("Driver", format!("{}\\lib\\print.dll", product.folder)), ("Manufacturer", product.publisher.told)];
        let values: Vec<(&str, &str)> = values.iter().map(|(name, text)| (*name, text.as_str())).collect();
        one.machine.own_key(&key, &values, one.mark("printer driver"));
    }
    if one.once_in(6) {
        certificate(one);
    }
}

/// A certificate that names the publisher, as bytes: it is shown, and stays.
fn certificate(one: &mut Installing<'_>) {
    let product = one.product();
    let thumb: String = (0..20).map(|_| format!("{:02X}", one.rng.u8(..))).collect();
    let store = "HKLM\\SOFTWARE\\Microsoft\\SystemCertificates\\TrustedPublisher\\Certificates";
    let name = product.publisher.listed.as_bytes();
    let data = [&[0x30, 0x82, 0x0C, name.len() as u8], name, &[0x06, 0x03]].concat();
    let mark = one.mark("certificate").as_class(Class::Stays);
    let key = format!("{store}\\{thumb}");
    one.machine.key(&key, mark.clone());
    one.machine.value(&key, RegValue { name: "Blob".to_owned(), kind: 3, data }, mark);
}
