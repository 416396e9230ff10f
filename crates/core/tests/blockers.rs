//! What stands in the way: each rule on a machine that has just this fault, and none on a healthy one.

use crate::pc;

use pc::Pc;
use stubble_core::blockers::{Blocker, Known, Severity, check};
use stubble_core::model::access::{AccessList, descriptor};
use stubble_core::model::{FileTime, Place, RegValue};
use stubble_core::packages::Registered;

/// In the units of file times.
const DAY: u64 = 24 * 60 * 60 * 10_000_000;
const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001";
const INSTALLER: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer";
const NAMES: &str =
    "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5\\Catalog_Entries64";
const DATABASE: &str = "HKLM\\SYSTEM\\DriverDatabase";
const PORTS: &str = "HKLM\\SYSTEM\\ControlSet001\\Control\\Class\\{4D36E978-E325-11CE-BFC1-08002BE10318}";
const POLICIES: &str = "HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows";

/// A machine on which nothing is wrong, with everything there that the rules look at.
fn healthy() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk", "Fennelgate Instruments", "C:\\Program Files\\Fennelgate\\Scale Desk")
        .file("C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe")
        .service("RpcSs", "C:\\Windows\\System32\\svchost.exe", true)
        .service("msiserver", "%systemroot%\\system32\\msiexec.exe /V", false)
        .key(&format!("{CONTROL}\\Control\\Session Manager\\Environment"), &[("TEMP", "%SystemRoot%\\TEMP")])
        .folder("C:\\Windows\\TEMP")
        .key(&format!("HKU\\{}\\Environment", pc::MAREN), &[("TEMP", "%USERPROFILE%\\AppData\\Local\\Temp")])
        .folder("C:\\Users\\maren\\AppData\\Local\\Temp")
        .service("WdFilter", "system32\\drivers\\WdFilter.sys", true)
        .key(&format!("{CONTROL}\\Services\\WdFilter"), &[("Group", "FSFilter Anti-Virus")]);
    pc
}

fn look(pc: &Pc) -> Vec<Blocker> {
    let survey = pc.survey();
    let subject = pc::subject(&survey, &[], "scale desk");
    check(&survey, &Registered::read(&survey), &subject, &pc::traced(pc, "scale desk"), Known::default())
}

/// A scale that the subject's driver is made for, as it is connected; and what its class knows.
fn scale(pc: &mut Pc, device: &[(&str, &str)]) {
    pc.file("C:\\Program Files\\Fennelgate\\Scale Desk\\driver\\qlscale.inf")
        .driver("oem7.inf", "qlscale.inf", "Fennelgate Instruments")
        .key(&format!("{DATABASE}\\DeviceIds\\USB\\VID_F3A1&PID_0051"), &[("oem7.inf", ""), ("usbser.inf", "")])
        .key(&format!("{PORTS}\\0001"), &[("InfPath", "usbser.inf")])
        .key(&format!("{PORTS}\\0003"), &[("InfPath", "oem7.inf")])
        .key(&format!("{CONTROL}\\Enum\\USB\\VID_F3A1&PID_0051\\1"), device);
}

/// Windows wrote to its own files on one day, and the clock shows another.
fn wrote(pc: &mut Pc, written: u64, now: u64) {
    pc.dated("C:\\Windows\\System32\\config\\SYSTEM.LOG1", written * DAY)
        .dated("C:\\Windows\\System32\\winevt\\Logs\\System.evtx", written * DAY)
        .facts_mut()
        .now = Some(FileTime(now * DAY));
}

/// What a user's programs fetch goes through a proxy.
fn proxy(pc: &mut Pc, server: &str) {
    let key = format!("HKU\\{}\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Internet Settings", pc::MAREN);
    pc.key(&key, &[("ProxyServer", server)]).raw(&key, number("ProxyEnable", 1));
}

fn number(name: &str, value: u32) -> RegValue {
    RegValue { name: name.into(), kind: 4, data: value.to_le_bytes().to_vec() }
}

type Fault = (&'static str, Severity, fn(&mut Pc));

#[test]
fn each_fault_is_named_and_nothing_else() {
    use Severity::{MayFail, WillFail, WorthKnowing};
    assert_eq!(look(&healthy()), []);
    let faults: &[Fault] = &[
        ("installer-service", WillFail, |pc| {
            pc.remove(&format!("{CONTROL}\\Services\\msiserver"));
        }),
        ("installer-service", WillFail, |pc| {
            pc.raw(&format!("{CONTROL}\\Services\\msiserver"), number("Start", 4));
        }),
        ("installer-service", WillFail, |pc| {
            pc.raw(&format!("{CONTROL}\\Services\\msiserver"), RegValue::text("ImagePath", "C:\\else.exe"));
        }),
        ("policy", WillFail, |pc| {
            pc.raw(&format!("{POLICIES}\\Installer"), number("DisableMSI", 2));
        }),
        ("policy", MayFail, |pc| {
            pc.raw(&format!("{POLICIES}\\Installer"), number("DisableMSI", 1));
        }),
        ("policy", MayFail, |pc| {
            pc.raw(&format!("{POLICIES}\\Safer\\CodeIdentifiers"), number("DefaultLevel", 0));
        }),
        ("policy", MayFail, |pc| {
            pc.raw(&format!("{POLICIES}\\SrpV2\\Msi"), number("EnforcementMode", 1))
                .key(&format!("{POLICIES}\\SrpV2\\Msi\\rule"), &[]);
        }),
        ("policy", MayFail, |pc| {
            let explorer = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Explorer";
            pc.key(explorer, &[("AicEnabled", "StoreOnly")]);
        }),
        ("in-progress", MayFail, |pc| {
            pc.key(&format!("{INSTALLER}\\InProgress"), &[("", "C:\\Windows\\Installer\\1f2e.ipi")]);
        }),
        ("in-progress", MayFail, |pc| {
            pc.key(&format!("{INSTALLER}\\Rollback\\Scripts"), &[("C:\\Config.Msi\\1f2e.rbs", "")]);
        }),
        ("temp-folder", MayFail, |pc| {
            pc.remove("C:\\Windows\\TEMP");
        }),
        ("temp-folder", MayFail, |pc| {
            pc.remove("C:\\Users\\maren\\AppData\\Local\\Temp").file("C:\\Users\\maren\\AppData\\Local\\Temp");
        }),
        ("temp-folder", MayFail, |pc| {
            pc.raw(&format!("HKU\\{}\\Environment", pc::MAREN), RegValue::text("TEMP", "R:\\Temp"));
        }),
        ("temp-folder", MayFail, |pc| {
            for name in 0..65_535 {
                pc.file(&format!("C:\\Windows\\TEMP\\tmp{name:04X}.tmp"));
            }
        }),
        ("filters", WorthKnowing, |pc| {
            pc.key(&format!("{CONTROL}\\Services\\svguard"), &[("Group", "FSFilter Anti-Virus")]);
        }),
        ("service-hangs", MayFail, |pc| {
            pc.service("DeskBridge", "\"C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe\"", true)
                .hangs("DeskBridge");
        }),
        ("network-layers", MayFail, |pc| {
            pc.key(&format!("{NAMES}\\000000000001"), &[("LibraryPath", "C:\\Program Files\\Gone\\names.dll")]);
        }),
        ("network-layers", MayFail, |pc| {
            pc.file("C:\\Windows\\System32\\winrnr.dll")
                .key(&format!("{NAMES}\\000000000002"), &[("LibraryPath", "%SystemRoot%\\System32\\winrnr.dll")]);
        }),
        ("devices", MayFail, |pc| {
            scale(pc, &[]);
        }),
        ("devices", MayFail, |pc| {
            scale(pc, &[("Driver", "{4D36E978-E325-11CE-BFC1-08002BE10318}\\0001")]);
        }),
        ("devices", MayFail, |pc| {
            scale(pc, &[("Driver", "{4D36E978-E325-11CE-BFC1-08002BE10318}\\0003")]);
            pc.raw(&format!("{CONTROL}\\Enum\\USB\\VID_F3A1&PID_0051\\1"), number("ConfigFlags", 0x40));
        }),
        ("store-damaged", MayFail, |pc| {
            let repository =
                "Local Settings\\Software\\Microsoft\\Windows\\CurrentVersion\\AppModel\\Repository\\Packages";
            let key = format!("HKLM\\SOFTWARE\\Classes\\{repository}\\Fennelgate.ScaleDesk_5.1.0.0_x64__8k2v0m1n3p4qr");
            pc.key(&key, &[("DisplayName", "Quernlight Scale Desk")]);
        }),
        ("port-taken", MayFail, |pc| {
            let rules = format!("{CONTROL}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules");
            let rule = |program: &str| {
                format!("v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=5040|App={program}|Name=in|")
            };
            let desk = rule("%ProgramFiles%\\Fennelgate\\Scale Desk\\desk.exe");
            pc.key(&rules, &[("{1}", &desk), ("{2}", &rule("C:\\Tools\\counter.exe"))]);
            pc.process("C:\\Tools\\counter.exe", &[]);
        }),
        ("one-profile", WorthKnowing, |pc| {
            for (user, size) in [("maren", 0), ("night-shift", 200)] {
                pc.sized(&format!("C:\\Users\\{user}\\AppData\\Local\\Quernlight Scale Desk\\scales.xml"), size);
            }
        }),
        ("clock", MayFail, |pc| wrote(pc, 1003, 1000)),
        ("clock", MayFail, |pc| wrote(pc, 1000, 1400)),
        ("network", MayFail, |pc| {
            pc.network(false);
        }),
        ("network", WorthKnowing, |pc| proxy(pc, "10.0.8.1:3128")),
        ("network", MayFail, |pc| proxy(pc, "127.0.0.1:8080")),
        ("space", WillFail, |pc| {
            pc.raw(&format!("{CONTROL}\\Control\\Session Manager\\Environment"), RegValue::text("TEMP", "D:\\Temp"));
            pc.facts_mut().other_drives.push("D:".into());
            pc.facts_mut().free_elsewhere.insert("D:".into(), 900);
        }),
        ("user-folders", MayFail, |pc| {
            let profiles = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\ProfileList";
            pc.key(&format!("{profiles}\\{}.bak", pc::MAREN), &[]);
        }),
    ];
    for (number, (rule, severity, edit)) in faults.iter().enumerate() {
        let mut pc = healthy();
        edit(&mut pc);
        let found = look(&pc);
        let told: Vec<_> = found.iter().map(|one| (one.rule.as_str(), one.severity)).collect();
        assert_eq!(told, [(*rule, *severity)], "fault {number}: {found:#?}");
        assert!(!found[0].advice.is_empty() && !found[0].evidence.is_empty());
    }
}

#[test]
fn an_installation_in_progress_is_told_from_one_that_was() {
    let mut pc = healthy();
    pc.key(&format!("{INSTALLER}\\InProgress"), &[]);
    assert!(look(&pc)[0].title.contains("was interrupted"));
    pc.process("C:\\Windows\\System32\\msiexec.exe", &[]);
    assert!(look(&pc)[0].title.contains("is in progress"));
}

/// A clock that is a little off, files of programs from the future, one of Windows' own with an odd time, a PC that
/// stood still for a while: no reason to speak.
#[test]
fn a_clock_is_not_doubted_for_little() {
    for (written, now) in [(1001, 1000), (900, 1000)] {
        let mut pc = healthy();
        wrote(&mut pc, written, now);
        for number in 0..20 {
            pc.dated(&format!("C:\\Program Files\\Fennelgate\\Scale Desk\\{number}.dat"), 9000 * DAY);
        }
        pc.dated("C:\\Windows\\System32\\config\\odd", 9000 * DAY);
        assert_eq!(look(&pc), []);
    }
}

#[test]
fn a_folder_that_setup_may_not_write_to_is_named_with_whom_its_list_denies() {
    let pc = healthy();
    let survey = pc.survey();
    let subject = pc::subject(&survey, &[], "scale desk");
    let (everything, reads) = (0x001F_01FF, 0x0012_00A9);
    let place = Place::folder("C:\\Program Files\\Fennelgate");
    let told = |entries: &[(bool, &str, u32)]| {
        let access = [(place.clone(), AccessList::parse(&descriptor(entries).unwrap()).unwrap())];
        let known = Known { access: &access, ..Known::default() };
        check(&survey, &Registered::read(&survey), &subject, &pc::traced(&pc, "scale desk"), known)
    };
    assert_eq!(told(&[(true, "S-1-5-18", everything), (true, "S-1-5-32-545", reads)]), []);
    let denied = told(&[(false, pc::MAREN, 2), (false, "S-1-1-0", 2), (true, "S-1-5-18", everything)]);
    assert_eq!((denied[0].rule.as_str(), denied[0].severity), ("rights", Severity::WillFail));
    assert!(denied[0].evidence[0].contains("Everyone (S-1-1-0)"), "{:?}", denied[0].evidence);
    let missing = told(&[(true, pc::MAREN, everything)]);
    assert!(missing[0].evidence[0].contains("no entry"), "{:?}", missing[0].evidence);
}
