//! What the hives say of the installation: name, version, users.

use stubble_core::model::RegValue;
use stubble_core::model::path::{Environment, leaf, plain};
use stubble_core::model::registry::text_of;
use stubble_core::model::text::{fold, from_utf16, to_utf16};
use stubble_core::survey::{Facts, User};
use stubble_hive::{Hive, HiveError};

use super::Disk;
use crate::MachineError;

const CURRENT_VERSION: &str = "Microsoft\\Windows NT\\CurrentVersion";

pub(super) fn read(disk: &Disk) -> Result<Facts, MachineError> {
    let config = "C:\\Windows\\System32\\config";
    let load = |name: &str| {
        let path = format!("{config}\\{name}");
        let missing = |root: &std::path::Path| MachineError::NotAMachine {
            root: root.to_owned(),
            kind: "Windows disk",
            missing: path.clone(),
        };
        disk.load_hive(&path).map_err(|error| match error {
            MachineError::Absent(_) => missing(disk.root()),
            other => other,
        })
    };
    let (software, system) = (load("SOFTWARE")?, load("SYSTEM")?);
    let wrap = |name: &str, source| MachineError::Hive { path: format!("{config}\\{name}"), source };
    let mut facts = from_software(&software).map_err(|source| wrap("SOFTWARE", source))?;
    from_system(&system, &mut facts).map_err(|source| wrap("SYSTEM", source))?;
    let x86 = "C:\\Program Files (x86)";
    let is_64 = facts.architecture != "x86" || disk.locate(x86)?.is_some();
    facts.program_files_x86 = is_64.then(|| x86.to_owned());
    Ok(facts)
}

fn from_software(software: &Hive) -> Result<Facts, HiveError> {
    let text = |name: &str| -> Result<Option<String>, HiveError> { text_value(software, CURRENT_VERSION, name) };
    let number = |name: &str| -> Result<Option<u32>, HiveError> {
        Ok(value(software, CURRENT_VERSION, name)?.and_then(|value| value.data.try_into().ok().map(u32::from_le_bytes)))
    };
    // From version 10 on, the old text value stays at 6.3 and numbers tell the truth.
    let version = match (number("CurrentMajorVersionNumber")?, number("CurrentMinorVersionNumber")?) {
        (Some(major), Some(minor)) => format!("{major}.{minor}"),
        _ => text("CurrentVersion")?.unwrap_or_default(),
    };
    let mut environment = Environment::default();
    environment.set("SystemDrive", "C:");
    environment.set("SystemRoot", "C:\\Windows");
    let mut users = Vec::new();
    let list = format!("{CURRENT_VERSION}\\ProfileList");
    if let Some(key) = find(software, &list)? {
        for child in software.subkeys(key)? {
            let sid = from_utf16(software.key(child)?.name.units());
            let Some(profile) = text_value(software, &format!("{list}\\{sid}"), "ProfileImagePath")? else { continue };
            let profile = plain(&profile, &environment);
            // Accounts of services have their profiles inside Windows.
            if sid.starts_with("S-1-5-21-") || sid.starts_with("S-1-12-") {
                users.push(User { name: leaf(&profile).to_owned(), sid, profile });
            }
        }
    }
    let folder = |name: &str, usual: &str| -> Result<String, HiveError> {
        let found = text_value(software, "Microsoft\\Windows\\CurrentVersion", name)?;
        Ok(found.map_or_else(|| usual.to_owned(), |path| plain(&path, &environment)))
    };
    Ok(Facts {
        product: text("ProductName")?.unwrap_or_default(),
        version,
        build: text("CurrentBuildNumber")?.and_then(|build| build.parse().ok()).unwrap_or(0),
        windows: "C:\\Windows".to_owned(),
        program_files: folder("ProgramFilesDir", "C:\\Program Files")?,
        program_data: text_value(software, &list, "ProgramData")?
            .map_or_else(|| "C:\\ProgramData".to_owned(), |path| plain(&path, &environment)),
        users,
        ..Facts::default()
    })
}

fn from_system(system: &Hive, facts: &mut Facts) -> Result<(), HiveError> {
    let current =
        value(system, "Select", "Current")?.and_then(|value| value.data.try_into().ok().map(u32::from_le_bytes));
    facts.control_set = format!("ControlSet{:03}", current.unwrap_or(1));
    let control = format!("{}\\Control", facts.control_set);
    let name = text_value(system, &format!("{control}\\ComputerName\\ComputerName"), "ComputerName")?;
    facts.computer = name.unwrap_or_default();
    let environment = format!("{control}\\Session Manager\\Environment");
    facts.architecture = text_value(system, &environment, "PROCESSOR_ARCHITECTURE")?.unwrap_or_default();
    Ok(())
}

fn find(hive: &Hive, path: &str) -> Result<Option<stubble_hive::KeyAt>, HiveError> {
    let names: Vec<Vec<u16>> = path.split('\\').map(to_utf16).collect();
    hive.find(names.iter().map(Vec::as_slice))
}

fn value(hive: &Hive, path: &str, name: &str) -> Result<Option<RegValue>, HiveError> {
    let Some(key) = find(hive, path)? else { return Ok(None) };
    let wanted = fold(name);
    let found = hive.values(key)?.into_iter().find(|value| fold(&from_utf16(value.name.units())) == wanted);
    Ok(found.map(|value| RegValue { name: name.to_owned(), kind: value.kind, data: value.data.into_owned() }))
}

fn text_value(hive: &Hive, path: &str, name: &str) -> Result<Option<String>, HiveError> {
    Ok(value(hive, path, name)?.map(|value| text_of(&value.data)))
}
