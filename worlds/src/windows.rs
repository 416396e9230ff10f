//! Windows itself: what is on every machine, and must stay.

use fastrand::Rng;
use stubble_core::model::RegValue;

use crate::machine::{Layer, Machine, Mark, User};
use crate::names;

const CURRENT: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion";
const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001";

/// Where libraries are listed that connections pass through.
pub const SOCKETS: &str = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters";

/// A machine with nothing but Windows.
pub fn machine(rng: &mut Rng) -> Machine {
    let mut machine = Machine::default();
    let people = ["maren", "night-shift", "Łukasz", "田中", "o'brien", "Administrator"];
    for (number, name) in people.iter().enumerate().take(1 + rng.usize(..4)) {
        machine.users.push(User { name: (*name).to_owned(), sid: format!("S-1-5-21-7-7-7-{}", 1001 + number) });
    }
    let own = Mark::windows;
    let programs = ["C:\\Program Files", "C:\\Program Files (x86)", "D:\\Program Files"];
    for folder in programs.into_iter().chain(["D:\\Dairy", "C:\\ProgramData", "C:\\Windows\\Temp"]) {
        machine.folder(folder, own());
    }
    for name in ["svchost.exe", "rundll32.exe", "services.exe", "msiexec.exe", "kernel32.dll", "usbser.inf"] {
        machine.program(&format!("C:\\Windows\\System32\\{name}"), "Microsoft Corporation", "Windows", own());
    }
    for name in ["disk", "usbser", "tcpip", "http"] {
        machine.file(&format!("C:\\Windows\\System32\\drivers\\{name}.sys"), own());
        let image = format!("System32\\drivers\\{name}.sys");
        machine.own_key(&format!("{CONTROL}\\Services\\{name}"), &[("ImagePath", &image)], own());
    }
    for name in ["Dhcp", "EventLog", "Schedule", "Winmgmt", "msiserver"] {
        let image = match name {
            "msiserver" => "%SystemRoot%\\System32\\msiexec.exe /V",
            _ => "%SystemRoot%\\System32\\svchost.exe -k netsvcs",
        };
        machine.own_key(&format!("{CONTROL}\\Services\\{name}"), &[("ImagePath", image)], own());
    }
    for name in ["Defrag\\ScheduledDefrag", "Time\\Sync", "Update\\Scan"] {
        let path = format!("C:\\Windows\\System32\\Tasks\\Microsoft\\Windows\\{name}");
        machine.task(&path, "%windir%\\System32\\svchost.exe", own());
    }
    for number in 0..6 {
        let class = names::guid(rng);
        let key = format!("HKLM\\SOFTWARE\\Classes\\CLSID\\{class}\\InprocServer32");
        machine.own_key(&key, &[("", &format!("C:\\Windows\\System32\\part{number}.dll"))], own());
    }
    machine.own_key("HKLM\\SOFTWARE\\Classes\\.txt", &[("", "txtfile")], own());
    let open = "HKLM\\SOFTWARE\\Classes\\txtfile\\shell\\open\\command";
    machine.own_key(open, &[("", "%SystemRoot%\\system32\\svchost.exe %1")], own());
    machine.entry(
        &format!("{CONTROL}\\Control\\Session Manager\\Environment"),
        "Path",
        "%SystemRoot%\\system32",
        own(),
    );
    machine.entry(&format!("{CONTROL}\\Control\\Session Manager\\Environment"), "Path", "%SystemRoot%", own());
    machine.key(&format!("{CURRENT}\\Uninstall"), own());
    machine.own_key(&format!("{CURRENT}\\Run"), &[("SecurityHealth", "%windir%\\system32\\svchost.exe")], own());
    let shared = RegValue::dword("C:\\Windows\\System32\\kernel32.dll", 3);
    machine.value(&format!("{CURRENT}\\SharedDLLs"), shared, own());
    let rules = format!("{CONTROL}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules");
    let rule = "v2.30|Action=Allow|Active=TRUE|Dir=In|App=%SystemRoot%\\system32\\svchost.exe|Name=Core networking|";
    machine.value(&rules, RegValue::text("CoreNet-In", rule), own());
    machine.program("C:\\Windows\\System32\\mswsock.dll", "Microsoft Corporation", "Windows", own());
    for id in [1001, 1002] {
        let library = "%SystemRoot%\\system32\\mswsock.dll".to_owned();
        let bare = Layer { library, protocol: None };
        let protocol = Layer { protocol: Some((id, vec![id])), ..bare.clone() };
        for list in ["Catalog_Entries", "Catalog_Entries64"] {
            machine.layer(&format!("{SOCKETS}\\Protocol_Catalog9\\{list}"), protocol.clone(), own());
            machine.layer(&format!("{SOCKETS}\\NameSpace_Catalog5\\{list}"), bare.clone(), own());
        }
    }
    for user in machine.users.clone() {
        for folder in
            ["AppData\\Roaming", "AppData\\Local\\Temp", "AppData\\LocalLow", "Documents", "Desktop", "Downloads"]
        {
            machine.folder(&user.folder(folder), own());
        }
        machine.file(
            &user.folder("Documents\\weighing list.xlsx"),
            Mark { whose: crate::machine::Whose::Persons, ..own() },
        );
        machine.key(&user.key("SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run"), own());
    }
    machine
}
