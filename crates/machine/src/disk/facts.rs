//! What the hives say of the installation: name, version, drives, time zone, users.

use std::collections::BTreeMap;
use std::fs;

use stubble_core::model::RegValue;
use stubble_core::model::path::{Environment, is_inside_or_same, leaf, plain};
use stubble_core::model::registry::{dword_of, text_of};
use stubble_core::model::text::{fold, from_utf16, to_utf16};
use stubble_core::survey::{Facts, User};
use stubble_hive::{Hive, HiveError};

use super::Disk;
use crate::MachineError;

const CURRENT_VERSION: &str = "Microsoft\\Windows NT\\CurrentVersion";
const SHELL_FOLDERS: &str = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders";
/// How the identifier of a person's account begins in an access list: version 1, five parts,
/// authority 5, first part 21.
const PERSON: [u8; 12] = [1, 5, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0];
/// A volume of a basic disk in the mounted-devices key: disk signature and offset; or a GUID with
/// this mark before it.
const BASIC_LEN: usize = 12;
const GPT_MARK: &[u8] = b"DMIO:ID:";

/// A part of the registry from which facts are read: a hive's file, or what a running system has of it.
/// Keys are named below its root.
pub(crate) trait Source {
    /// A value; none where it is not there.
    fn value(&self, key: &str, name: &str) -> Result<Option<RegValue>, MachineError>;

    /// Names of the subkeys of a key; none where it is not there.
    fn subkeys(&self, key: &str) -> Result<Vec<String>, MachineError>;

    /// All values of a key; none where it is not there.
    fn values(&self, key: &str) -> Result<Vec<RegValue>, MachineError>;

    /// A text.
    fn text(&self, key: &str, name: &str) -> Result<Option<String>, MachineError> {
        Ok(self.value(key, name)?.map(|value| text_of(&value.data)))
    }

    /// A number.
    fn number(&self, key: &str, name: &str) -> Result<Option<u32>, MachineError> {
        Ok(self.value(key, name)?.and_then(|value| dword_of(&value.data)))
    }
}

/// One of the machine's own hives, with its path for errors.
struct HiveSource<'d> {
    hive: &'d Hive,
    path: String,
}

impl HiveSource<'_> {
    fn read<T>(&self, work: impl FnOnce() -> Result<T, HiveError>) -> Result<T, MachineError> {
        work().map_err(|source| MachineError::Hive { path: self.path.clone(), source })
    }
}

impl Source for HiveSource<'_> {
    fn value(&self, key: &str, name: &str) -> Result<Option<RegValue>, MachineError> {
        let wanted = fold(name);
        Ok(self.values(key)?.into_iter().find(|value| fold(&value.name) == wanted))
    }

    fn subkeys(&self, key: &str) -> Result<Vec<String>, MachineError> {
        self.read(|| {
            let Some(at) = find(self.hive, key)? else { return Ok(Vec::new()) };
            self.hive.subkeys(at)?.into_iter().map(|child| Ok(from_utf16(self.hive.key(child)?.name.units()))).collect()
        })
    }

    fn values(&self, key: &str) -> Result<Vec<RegValue>, MachineError> {
        self.read(|| {
            let Some(at) = find(self.hive, key)? else { return Ok(Vec::new()) };
            Ok(self.hive.values(at)?.into_iter().map(super::registry::owned).collect())
        })
    }
}

/// Reads the facts, and with them the letter of the drive and the Windows folder.
pub(super) fn read(disk: &mut Disk, windows: &str) -> Result<(), MachineError> {
    let load = |name: &str| {
        let path = format!("{}\\{name}", disk.config());
        let hive = disk.load_hive(&path).map_err(|error| match error {
            MachineError::Absent(_) => {
                MachineError::NotAMachine { root: disk.root().to_owned(), kind: "Windows disk", missing: path.clone() }
            }
            other => other,
        })?;
        Ok::<_, MachineError>((hive, path))
    };
    let ((software, software_path), (system, system_path)) = (load("SOFTWARE")?, load("SYSTEM")?);
    let software = HiveSource { hive: &software, path: software_path };
    let system = HiveSource { hive: &system, path: system_path };
    disk.drive = drive_letter(&software)?;
    disk.windows = format!("{}\\{windows}", disk.drive);
    let current = system.number("Select", "Current")?;
    let control_set = format!("ControlSet{:03}", current.unwrap_or(1));
    gather(disk, &software, &system, control_set)
}

/// Gathers the facts of a disk whose drive and Windows folder are known.
pub(crate) fn gather(
    disk: &mut Disk,
    software: &dyn Source,
    system: &dyn Source,
    control_set: String,
) -> Result<(), MachineError> {
    let mut facts = from_software(software, disk)?;
    facts.control_set = control_set;
    from_system(system, disk, &mut facts)?;
    facts.identity.guid = software.text("Microsoft\\Cryptography", "MachineGuid")?.unwrap_or_default();
    facts.identity.installed = software.number(CURRENT_VERSION, "InstallDate")?;
    let x86 = software.text("Microsoft\\Windows\\CurrentVersion", "ProgramFilesDir (x86)")?;
    let x86 = x86.unwrap_or_else(|| format!("{}\\Program Files (x86)", disk.drive));
    let is_64 = facts.architecture != "x86" || disk.locate(&x86).ok().flatten().is_some();
    facts.program_files_x86 = is_64.then_some(x86);
    unlisted_users(disk, &mut facts);
    for user in &mut facts.users {
        user.folders = redirected(disk, user);
    }
    disk.facts = facts;
    Ok(())
}

/// The letter under which the machine knows its own system drive.
fn drive_letter(software: &dyn Source) -> Result<String, MachineError> {
    let root = software.text(CURRENT_VERSION, "SystemRoot")?.unwrap_or_default();
    Ok(match root.as_bytes() {
        [letter, b':', ..] if letter.is_ascii_alphabetic() => fold(&root[..2]),
        _ => "C:".to_owned(),
    })
}

fn system_environment(disk: &Disk) -> Environment {
    let mut environment = Environment::default();
    environment.set("SystemDrive", &disk.drive);
    environment.set("SystemRoot", &disk.windows);
    environment.set("windir", &disk.windows);
    environment
}

fn from_software(software: &dyn Source, disk: &Disk) -> Result<Facts, MachineError> {
    // From version 10 on, the old text value stays at 6.3 and numbers tell the truth.
    let numbers = (
        software.number(CURRENT_VERSION, "CurrentMajorVersionNumber")?,
        software.number(CURRENT_VERSION, "CurrentMinorVersionNumber")?,
    );
    let version = match numbers {
        (Some(major), Some(minor)) => format!("{major}.{minor}"),
        _ => software.text(CURRENT_VERSION, "CurrentVersion")?.unwrap_or_default(),
    };
    let environment = system_environment(disk);
    let list = format!("{CURRENT_VERSION}\\ProfileList");
    let mut users = Vec::new();
    for sid in software.subkeys(&list)? {
        let Some(profile) = software.text(&format!("{list}\\{sid}"), "ProfileImagePath")? else { continue };
        let profile = plain(&profile, &environment);
        // Accounts of services have their profiles inside Windows.
        if sid.starts_with("S-1-5-21-") || sid.starts_with("S-1-12-") {
            users.push(User { name: leaf(&profile).to_owned(), sid, profile, folders: BTreeMap::new() });
        }
    }
    let folder = |key: &str, name: &str, usual: &str| -> Result<String, MachineError> {
        let found = software.text(key, name)?;
        Ok(found.map_or_else(|| format!("{}\\{usual}", disk.drive), |path| plain(&path, &environment)))
    };
    let build = software.text(CURRENT_VERSION, "CurrentBuildNumber")?;
    Ok(Facts {
        product: software.text(CURRENT_VERSION, "ProductName")?.unwrap_or_default(),
        version,
        build: build.and_then(|build| build.parse().ok()).unwrap_or(0),
        windows: disk.windows.clone(),
        program_files: folder("Microsoft\\Windows\\CurrentVersion", "ProgramFilesDir", "Program Files")?,
        program_data: folder(&list, "ProgramData", "ProgramData")?,
        profiles: folder(&list, "ProfilesDirectory", "Users")?,
        users,
        ..Facts::default()
    })
}

fn from_system(system: &dyn Source, disk: &Disk, facts: &mut Facts) -> Result<(), MachineError> {
    let control = format!("{}\\Control", facts.control_set);
    let name = system.text(&format!("{control}\\ComputerName\\ComputerName"), "ComputerName")?;
    facts.computer = name.unwrap_or_default();
    let environment = format!("{control}\\Session Manager\\Environment");
    facts.architecture = system.text(&environment, "PROCESSOR_ARCHITECTURE")?.unwrap_or_default();
    facts.time_zone = system.text(&format!("{control}\\TimeZoneInformation"), "TimeZoneKeyName")?.unwrap_or_default();
    let mounted = system.values("MountedDevices")?;
    let own = mounted.iter().find(|value| value.name.eq_ignore_ascii_case(&format!("\\DosDevices\\{}", disk.drive)));
    facts.identity.volume =
        own.map(|value| value.data.iter().map(|byte| format!("{byte:02x}")).collect()).unwrap_or_default();
    facts.other_drives = other_drives(&mounted, &disk.drive);
    Ok(())
}

/// Letters of fixed drives in the mounted-devices key. Removable ones are stored as the text of a
/// device path, and say nothing of what is there now.
fn other_drives(mounted: &[RegValue], own: &str) -> Vec<String> {
    let letters = mounted.iter().filter(|value| value.data.len() == BASIC_LEN || value.data.starts_with(GPT_MARK));
    let mut drives: Vec<String> = letters
        .filter_map(|value| value.name.strip_prefix("\\DosDevices\\"))
        .map(fold)
        .filter(|letter| letter != own && letter.len() == 2)
        .collect();
    drives.sort();
    drives.dedup();
    drives
}

/// Profiles with a hive that the list of profiles does not know: what a failed deletion of an
/// account leaves. The hive's own access list tells whose it is.
fn unlisted_users(disk: &Disk, facts: &mut Facts) {
    let Ok(Some(folder)) = disk.locate(&facts.profiles) else { return };
    let Ok(listed) = fs::read_dir(folder) else { return };
    let mut names: Vec<String> = listed.filter_map(|item| item.ok()?.file_name().into_string().ok()).collect();
    names.sort();
    for name in names {
        let profile = format!("{}\\{name}", facts.profiles);
        if facts.users.iter().any(|user| is_inside_or_same(&profile, &user.profile)) || fold(&name) == "DEFAULT" {
            continue;
        }
        let Ok(hive) = disk.load_hive(&format!("{profile}\\NTUSER.DAT")) else { continue };
        let sid = owner(&hive).unwrap_or_else(|| format!("profile of {name}"));
        if !facts.users.iter().any(|user| user.sid == sid) {
            facts.users.push(User { name, sid, profile, folders: BTreeMap::new() });
        }
    }
}

/// The person whom the access list of a hive's root names.
fn owner(hive: &Hive) -> Option<String> {
    let security = hive.key(hive.root()).ok()?.security;
    let at = security.windows(PERSON.len()).position(|part| part == PERSON)? + PERSON.len();
    let parts = security.get(at..at + 16)?.chunks_exact(4);
    let parts = parts.map(|part| u32::from_le_bytes(part.try_into().expect("four bytes")).to_string());
    Some(format!("S-1-5-21-{}", parts.collect::<Vec<_>>().join("-")))
}

/// The user's folders that were moved elsewhere, by the names that Windows has for them.
fn redirected(disk: &Disk, user: &User) -> BTreeMap<String, String> {
    let mut folders = BTreeMap::new();
    let Ok(hive) = disk.load_hive(&format!("{}\\NTUSER.DAT", user.profile)) else { return folders };
    let mut environment = system_environment(disk);
    environment.set("USERPROFILE", &user.profile);
    environment.set("USERNAME", &user.name);
    let source = HiveSource { hive: &hive, path: user.profile.clone() };
    for value in source.values(SHELL_FOLDERS).unwrap_or_default() {
        let path = plain(&text_of(&value.data), &environment);
        if path.len() > 3 && fold(&path) != fold(&user.folder(&value.name)) {
            folders.insert(value.name, path);
        }
    }
    folders
}

fn find(hive: &Hive, path: &str) -> Result<Option<stubble_hive::KeyAt>, HiveError> {
    let names: Vec<Vec<u16>> = path.split('\\').map(to_utf16).collect();
    hive.find(names.iter().map(Vec::as_slice))
}
