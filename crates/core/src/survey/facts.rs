//! Facts about a machine that are neither a file nor a key.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::FileTime;
use crate::model::path::Environment;

use super::tree::NodeId;

/// A user account with a profile.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct User {
    /// The account's name, as its profile folder has it.
    pub name: String,
    /// The security identifier.
    pub sid: String,
    /// The profile folder.
    pub profile: String,
    /// Folders that were moved away from their usual place, by the names that Windows has for
    /// them, such as `AppData` or `Personal`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub folders: BTreeMap<String, String>,
}

impl User {
    /// The folder for settings that follow the user.
    pub fn roaming(&self) -> String {
        self.folder("AppData")
    }

    /// The folder for data that stay on this machine.
    pub fn local(&self) -> String {
        self.folder("Local AppData")
    }

    /// One of the user's folders, by the name that Windows has for it: where it was moved, or
    /// else in its usual place.
    pub fn folder(&self, name: &str) -> String {
        if let Some(moved) = self.folders.get(name) {
            return moved.clone();
        }
        let usual = match name {
            "AppData" => "AppData\\Roaming",
            "Local AppData" => "AppData\\Local",
            "Personal" => "Documents",
            "My Music" => "Music",
            "My Pictures" => "Pictures",
            "My Video" => "Videos",
            "Start Menu" => "AppData\\Roaming\\Microsoft\\Windows\\Start Menu",
            "Programs" => "AppData\\Roaming\\Microsoft\\Windows\\Start Menu\\Programs",
            "Startup" => "AppData\\Roaming\\Microsoft\\Windows\\Start Menu\\Programs\\Startup",
            "{374DE290-123F-4565-9164-39C4925E467B}" => "Downloads",
            other => other,
        };
        format!("{}\\{usual}", self.profile)
    }

    /// The root of the user's registry.
    pub fn hive(&self) -> String {
        format!("HKU\\{}", self.sid)
    }
}

/// What tells one installation of Windows from another. Copies of a disk have the same.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Identity {
    /// `MachineGuid` of the key `Cryptography`, which setup of Windows draws; empty if there is none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub guid: String,
    /// `InstallDate`, in seconds since 1970. An upgrade of Windows sets it again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installed: Option<u32>,
    /// Disk signature and offset, or partition GUID, of the system drive as Windows has mounted it, in hexadecimal
    /// digits; empty if it is not known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub volume: String,
}

impl Identity {
    /// The first thing in which two installations differ, of what is known of both; `None` if they may be one.
    pub fn difference(&self, other: &Self) -> Option<&'static str> {
        let differ = |one: &str, other: &str| !one.is_empty() && !other.is_empty() && one != other;
        if differ(&self.guid, &other.guid) {
            return Some("its machine GUID is different");
        }
        if differ(&self.volume, &other.volume) {
            return Some("its system drive is another volume");
        }
        // Without a GUID the date is all that is left.
        let dates = self.installed.zip(other.installed);
        let is_dated = self.guid.is_empty() && dates.is_some_and(|(one, other)| one != other);
        is_dated.then_some("Windows was installed on it on another date")
    }
}

/// Name, version, users and well-known folders.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Facts {
    /// The machine's own name.
    pub computer: String,
    /// What tells this installation from others.
    #[serde(default)]
    pub identity: Identity,
    /// The system's name, as Windows gives it.
    pub product: String,
    /// Version, such as `10.0`.
    pub version: String,
    /// Build number.
    pub build: u32,
    /// Processor architecture, as in the environment: `AMD64`, `x86` or `ARM64`.
    pub architecture: String,
    /// The control set in force, such as `ControlSet001`.
    pub control_set: String,
    /// The Windows folder.
    pub windows: String,
    /// The folder of native programs.
    pub program_files: String,
    /// The folder of 32-bit programs on a 64-bit system.
    pub program_files_x86: Option<String>,
    /// The folder for data of programs, for all users.
    pub program_data: String,
    /// The folder in which profiles are made.
    #[serde(default = "usual_profiles")]
    pub profiles: String,
    /// Accounts with a profile.
    pub users: Vec<User>,
    /// The time zone, by the name under which Windows keeps it; empty where it is not known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub time_zone: String,
    /// Letters of the machine's other fixed drives, each with its colon.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub other_drives: Vec<String>,
    /// Free bytes on the system disk, where known.
    pub free_bytes: Option<u64>,
    /// Free bytes on other fixed drives, by the letter with its colon, where known.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub free_elsewhere: BTreeMap<String, u64>,
    /// What the machine's clock showed, where it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<FileTime>,
}

fn usual_profiles() -> String {
    "C:\\Users".to_owned()
}

impl Facts {
    /// The key of services in the control set in force.
    pub fn services_key(&self) -> String {
        format!("HKLM\\SYSTEM\\{}\\Services", self.control_set)
    }

    /// All folders of programs.
    pub fn program_folders(&self) -> Vec<&str> {
        std::iter::once(self.program_files.as_str()).chain(self.program_files_x86.as_deref()).collect()
    }

    /// The start menu's programs, for all users.
    pub fn common_start_menu(&self) -> String {
        format!("{}\\Microsoft\\Windows\\Start Menu\\Programs", self.program_data)
    }

    /// Both views of the machine's software key.
    pub fn software_views(&self) -> Vec<&'static str> {
        match self.program_files_x86 {
            Some(_) => vec!["HKLM\\SOFTWARE", "HKLM\\SOFTWARE\\WOW6432Node"],
            None => vec!["HKLM\\SOFTWARE"],
        }
    }

    /// Variables as that machine would set them for a service or for a user.
    pub fn environment(&self, user: Option<&User>) -> Environment {
        let drive = self.windows.get(..2).unwrap_or("C:");
        let mut environment = Environment::default();
        environment.set("SystemDrive", drive);
        environment.set("SystemRoot", &self.windows);
        environment.set("windir", &self.windows);
        environment.set("ProgramFiles", &self.program_files);
        environment.set("ProgramW6432", &self.program_files);
        environment.set("CommonProgramFiles", format!("{}\\Common Files", self.program_files));
        if let Some(folder) = &self.program_files_x86 {
            environment.set("ProgramFiles(x86)", folder);
            environment.set("CommonProgramFiles(x86)", format!("{folder}\\Common Files"));
        }
        for name in ["ProgramData", "ALLUSERSPROFILE"] {
            environment.set(name, &self.program_data);
        }
        environment.set("PUBLIC", format!("{drive}\\Users\\Public"));
        environment.set("TEMP", format!("{}\\Temp", self.windows));
        if let Some(user) = user {
            environment.set("USERPROFILE", &user.profile);
            environment.set("USERNAME", &user.name);
            environment.set("APPDATA", user.roaming());
            environment.set("LOCALAPPDATA", user.local());
            environment.set("TEMP", format!("{}\\Temp", user.local()));
        }
        environment
    }
}

/// A running process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Process {
    /// Its number.
    pub pid: u32,
    /// Path of its program.
    pub image: String,
    /// What it calls itself to a person.
    #[serde(default)]
    pub title: String,
    /// The user it runs for.
    #[serde(default)]
    pub user: String,
    /// Files that it holds open.
    #[serde(default)]
    pub holds: Vec<String>,
}

/// The state of a service.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceState {
    /// Short name.
    pub name: String,
    /// Whether it runs now.
    pub running: bool,
    /// Whether it is starting or stopping, and not there yet.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub on_its_way: bool,
    /// The number of the process that it runs in, where that is known; other services may run in it as well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
}

/// A device that is connected.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Device {
    /// The identifier by which the system knows it.
    pub id: String,
    /// What it is called.
    pub name: String,
    /// The service that drives it; empty where it has no driver.
    #[serde(default)]
    pub driver: String,
}

/// What only a running system has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Running {
    /// Processes.
    pub processes: Vec<Process>,
    /// Services whose state is known.
    pub services: Vec<ServiceState>,
    /// Why a restart is pending, one reason each.
    pub restart_pending: Vec<String>,
    /// Connected devices.
    #[serde(default)]
    pub devices: Vec<Device>,
    /// Whether there is a network, where that is known.
    #[serde(default)]
    pub network: Option<bool>,
}

/// A shortcut file and where it leads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shortcut {
    /// The file.
    pub file: NodeId,
    /// The path it leads to.
    pub target: String,
}

/// Something that could not be looked at. It is said, never counted as fine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Gap {
    /// What was to be looked at.
    pub what: String,
    /// Why it could not be.
    pub why: String,
}

impl Gap {
    /// Reason for an entry whose name is not Unicode text.
    pub const NO_TEXT: &str = "its name is no text";
}
