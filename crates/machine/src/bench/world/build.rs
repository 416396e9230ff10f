//! Building a bench from a world.

use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::content::program;
use stubble_core::logs;
use stubble_core::model::registry::RegValue;
use stubble_core::model::text::{fold, to_utf16};
use stubble_core::model::{FileTime, Place};
use stubble_hive::Hive;
use thiserror::Error;

use super::events::write as write_events;
use super::package::{filler, write_package};
use super::{KeyRow, OtherValue, PackageSource, ValueRow, World, scenery};
use crate::bench::running::FILE;
use crate::bench::{Bench, State, installer};
use crate::disk::Disk;
use crate::disk::Edit;
use crate::edits::Edits;
use crate::elsewhere::is_elsewhere;
use crate::{MachineError, shortcut};

/// Why a world cannot be built.
#[derive(Debug, Error)]
pub enum WorldError {
    /// A description cannot be read.
    #[error("the description {name} cannot be read: {source}")]
    Description {
        /// Which one.
        name: String,
        /// What is wrong, with line and column.
        source: Box<toml::de::Error>,
    },
    /// A package is named that is not described.
    #[error("no package is described as {0}")]
    UnknownPackage(String),
    /// Setup of a package failed.
    #[error("setup of {name} ended with {code}: {log}")]
    Setup {
        /// Which package.
        name: String,
        /// The exit code.
        code: u32,
        /// The log's text.
        log: String,
    },
    /// The folder is not empty.
    #[error("{} is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// The bench that is being built refuses something.
    #[error(transparent)]
    Machine(#[from] MachineError),
    /// A file cannot be written.
    #[error("{path}: {source}")]
    Io {
        /// Which one.
        path: String,
        /// What the system says.
        source: std::io::Error,
    },
}

/// Builds the bench that `world` describes in an empty folder. `package` gives the text that
/// describes a package, by its name.
pub fn build(world: &str, package: &dyn Fn(&str) -> Option<String>, root: &Path) -> Result<Bench, WorldError> {
    let world: World = described("of the world", world)?;
    if root.exists() && fs::read_dir(root).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(WorldError::NotEmpty(root.to_owned()));
    }
    let builder = Builder { dated: file_time(world.computer.dated), root, world: &world, package };
    builder.folders()?;
    builder.hives()?;
    builder.state(&builder.first_state())?;
    let bench = Bench::open(root)?;
    builder.content(&bench)?;
    // Only now its registry tells which other drives it has.
    let bench = Bench::open(root)?;
    builder.installs(&bench)?;
    builder.breakage(&bench)?;
    for drives in [root.join("disk"), root.join("drives")].iter().filter(|drives| drives.is_dir()) {
        builder.date_all(drives)?;
    }
    let mut state = bench.state()?;
    state.now = file_time(world.computer.now);
    state.processes = world.processes.clone();
    state.devices = world.devices.clone();
    state.own_drivers = world.own_drivers.clone();
    state.network = world.computer.network;
    state.restore_points = world.computer.restore_points.then(Vec::new);
    state.restart_pending = world.computer.restart_pending.clone();
    state.free_elsewhere = world.computer.free_elsewhere.clone();
    state.rights = world.rights.clone();
    for row in &world.services {
        if let Some(service) = state.service_mut(&row.name) {
            service.running = row.running;
            service.hangs = row.hangs;
        }
    }
    bench.set_state(&state)?;
    Ok(bench)
}

/// Removes a folder that holds nothing but a bench in `bench/` and a case in `case/`. One that
/// holds anything else is left alone, and building into it will say so.
pub fn discard(folder: &Path) -> Result<(), WorldError> {
    let Ok(entries) = fs::read_dir(folder) else { return Ok(()) };
    let names: Vec<_> = entries.filter_map(Result::ok).map(|entry| entry.file_name()).collect();
    let is_ours =
        folder.join("bench").join(FILE).is_file() && names.iter().all(|name| name == "bench" || name == "case");
    if is_ours { fs::remove_dir_all(folder).map_err(io(folder)) } else { Ok(()) }
}

fn described<T: serde::de::DeserializeOwned>(name: &str, text: &str) -> Result<T, WorldError> {
    toml::from_str(text).map_err(|source| WorldError::Description { name: name.to_owned(), source: Box::new(source) })
}

/// When Windows was set up on every made-up machine: 2 September 2024, in seconds since 1970.
const INSTALLED: u32 = 1_725_260_400;

fn file_time(moment: jiff::Timestamp) -> FileTime {
    FileTime::from_unix(moment.as_second(), moment.subsec_nanosecond().unsigned_abs())
}

fn io(path: &Path) -> impl FnOnce(std::io::Error) -> WorldError {
    let path = path.display().to_string();
    move |source| WorldError::Io { path, source }
}

struct Builder<'w> {
    dated: FileTime,
    root: &'w Path,
    world: &'w World,
    package: &'w dyn Fn(&str) -> Option<String>,
}

impl Builder<'_> {
    fn folders(&self) -> Result<(), WorldError> {
        let disk = self.root.join("disk");
        let mut folders: Vec<String> = [
            "Windows/System32/config",
            "Windows/System32/drivers",
            "Windows/Installer",
            "Windows/Temp",
            "Program Files/Common Files",
            "Program Files (x86)/Common Files",
            "ProgramData/Microsoft/Windows/Start Menu/Programs/Startup",
            "Users/Public/Desktop",
        ]
        .map(str::to_owned)
        .to_vec();
        for user in &self.world.users {
            let profile = format!("Users/{}", user.name);
            for part in [
                "Desktop",
                "Documents",
                "Downloads",
                "AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup",
                "AppData/Local/Microsoft/Windows",
                "AppData/Local/Temp",
                "AppData/LocalLow",
            ] {
                folders.push(format!("{profile}/{part}"));
            }
        }
        for folder in folders {
            let path = disk.join(folder);
            fs::create_dir_all(&path).map_err(io(&path))?;
        }
        Ok(())
    }

    fn hives(&self) -> Result<(), WorldError> {
        let disk = self.root.join("disk");
        let config = disk.join("Windows/System32/config");
        let mut files = vec![(config.join("SOFTWARE"), "ROOT"), (config.join("SYSTEM"), "ROOT")];
        for user in &self.world.users {
            let profile = disk.join("Users").join(&user.name);
            files.push((profile.join("NTUSER.DAT"), "ROOT"));
            files.push((profile.join("AppData/Local/Microsoft/Windows/UsrClass.dat"), "ROOT"));
        }
        if self.world.keys.iter().any(|row| row.path.starts_with("HKLM\\BCD00000000\\")) {
            let boot = disk.join("Boot");
            fs::create_dir_all(&boot).map_err(io(&boot))?;
            files.push((boot.join("BCD"), "NewStoreRoot"));
        }
        for (path, name) in files {
            let hive = Hive::create(&to_utf16(name), &descriptor(), self.dated.0);
            let mut hive = hive.map_err(|source| MachineError::Hive { path: path.display().to_string(), source })?;
            fs::write(&path, hive.to_bytes(self.dated.0)).map_err(io(&path))?;
        }
        let plain = Disk::unread(&disk, self.root);
        let mut edit = Edit::new(&plain, self.dated);
        for (key, values) in self.machine_keys() {
            edit.make_key(&key)?;
            values.iter().try_for_each(|value| edit.set(&key, value))?;
        }
        edit.commit()?;
        Ok(())
    }

    /// Keys without which nothing recognises a Windows installation.
    fn machine_keys(&self) -> Vec<(String, Vec<RegValue>)> {
        let computer = &self.world.computer;
        let mut numbers = computer.version.split('.').map(|part| part.parse::<u32>().unwrap_or(0));
        let (major, minor) = (numbers.next().unwrap_or(10), numbers.next().unwrap_or(0));
        let build = numbers.next().unwrap_or(0).to_string();
        let version = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion";
        let control = "HKLM\\SYSTEM\\ControlSet001\\Control";
        let run = "Microsoft\\Windows\\CurrentVersion\\Run";
        let mut keys = vec![
            (
                version.to_owned(),
                vec![
                    RegValue::text("ProductName", &computer.product),
                    RegValue::dword("CurrentMajorVersionNumber", major),
                    RegValue::dword("CurrentMinorVersionNumber", minor),
                    RegValue::text("CurrentVersion", "6.3"),
                    RegValue::text("CurrentBuildNumber", &build),
                    RegValue::dword("InstallDate", INSTALLED),
                    RegValue::text("SystemRoot", "C:\\Windows"),
                ],
            ),
            (
                format!("{version}\\ProfileList"),
                vec![
                    RegValue::expand("ProfilesDirectory", "%SystemDrive%\\Users"),
                    RegValue::expand("ProgramData", "%SystemDrive%\\ProgramData"),
                ],
            ),
            (
                "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion".to_owned(),
                vec![RegValue::text("ProgramFilesDir", "C:\\Program Files")],
            ),
            (
                "HKLM\\SOFTWARE\\Microsoft\\Cryptography".to_owned(),
                vec![RegValue::text("MachineGuid", &self.machine_guid())],
            ),
            (format!("HKLM\\SOFTWARE\\{run}"), Vec::new()),
            (format!("HKLM\\SOFTWARE\\WOW6432Node\\{run}"), Vec::new()),
            ("HKLM\\SYSTEM\\Select".to_owned(), vec![RegValue::dword("Current", 1), RegValue::dword("Default", 1)]),
            (format!("{control}\\ComputerName\\ComputerName"), vec![RegValue::text("ComputerName", &computer.name)]),
            (
                format!("{control}\\Session Manager\\Environment"),
                vec![
                    RegValue::text("PROCESSOR_ARCHITECTURE", "AMD64"),
                    RegValue::expand("Path", "%SystemRoot%\\system32;%SystemRoot%"),
                ],
            ),
            ("HKLM\\SYSTEM\\ControlSet001\\Services".to_owned(), Vec::new()),
        ];
        for user in &self.world.users {
            let profile = format!("%SystemDrive%\\Users\\{}", user.name);
            keys.push((
                format!("{version}\\ProfileList\\{}", user.sid),
                vec![RegValue::expand("ProfileImagePath", &profile)],
            ));
        }
        keys
    }

    /// Drawn from the machine's name and users, so that another world is another machine.
    fn machine_guid(&self) -> String {
        let users = self.world.users.iter().map(|user| user.sid.as_str()).collect::<Vec<_>>().join(" ");
        let drawn = blake3::hash(format!("{} {users}", self.world.computer.name).as_bytes());
        let digits = drawn.to_hex();
        let (a, b, c, d, e) = (&digits[..8], &digits[8..12], &digits[13..16], &digits[17..20], &digits[20..32]);
        format!("{a}-{b}-4{c}-a{d}-{e}")
    }

    fn first_state(&self) -> State {
        State { now: self.dated, free_bytes: self.world.computer.free_bytes, ..State::default() }
    }

    fn state(&self, state: &State) -> Result<(), WorldError> {
        let path = self.root.join(FILE);
        fs::write(&path, toml::to_string(state).expect("the state is a table")).map_err(io(&path))
    }

    fn content(&self, bench: &Bench) -> Result<(), WorldError> {
        let mut edit = bench.edit()?;
        for user in &self.world.users {
            edit.make_key(&format!("HKU\\{}\\Software\\Microsoft\\Windows\\CurrentVersion\\Run", user.sid))?;
            edit.make_key(&format!("HKU\\{}_Classes\\CLSID", user.sid))?;
        }
        if self.world.computer.scenery {
            for (key, value) in scenery::values() {
                edit.set(&key, &value)?;
            }
            for (path, size) in scenery::files() {
                self.write(bench, &path, &filler(&path, size))?;
            }
        }
        for row in &self.world.keys {
            let key = self.key_path(row);
            edit.make_key(&key)?;
            for (name, value) in &row.values {
                edit.set(&key, &reg_value(name, value))?;
            }
        }
        edit.commit()?;
        for row in &self.world.files {
            for path in several(&row.path) {
                let content = match (&row.text, &row.program) {
                    (Some(text), _) => text.clone().into_bytes(),
                    (None, Some(version)) => program::file(version),
                    (None, None) => filler(&path, row.size.unwrap_or(64)),
                };
                self.write(bench, &path, &content)?;
            }
        }
        for row in &self.world.shortcuts {
            self.write(bench, &row.path, &shortcut::file(&row.target))?;
        }
        for row in &self.world.event_logs {
            self.write(bench, &row.path, &write_events(&row.events, &self.world.computer.name, 1))?;
        }
        for row in &self.world.packages {
            let mut content = row.inside.as_ref().map(program::file).unwrap_or_default();
            content.extend(row.mark.as_bytes());
            content.extend(self.package_bytes(&row.source)?);
            self.write(bench, &row.at, &content)?;
        }
        Ok(())
    }

    fn installs(&self, bench: &Bench) -> Result<(), WorldError> {
        for row in &self.world.installed {
            let bytes = self.package_bytes(&row.source)?;
            let run = installer::run(bench, &row.from, &bytes, &row.set)?;
            if run.code != 0 {
                let log = logs::decode(&run.log);
                return Err(WorldError::Setup { name: row.source.clone(), code: run.code, log });
            }
        }
        Ok(())
    }

    fn breakage(&self, bench: &Bench) -> Result<(), WorldError> {
        let mut edit = bench.edit()?;
        for row in &self.world.broken {
            if let Some(key) = &row.key {
                let key = self.users_key(key);
                match &row.value {
                    Some(name) => edit.delete_value(&key, name).map(drop)?,
                    None => edit.delete(&key).map(drop)?,
                }
            }
            if let Some(path) = &row.path {
                let at = bench.disk().locate(path)?.ok_or_else(|| MachineError::Absent(path.clone()))?;
                let gone = if at.is_dir() { fs::remove_dir_all(&at) } else { fs::remove_file(&at) };
                gone.map_err(io(&at))?;
            }
        }
        edit.commit()?;
        Ok(())
    }

    fn package_bytes(&self, name: &str) -> Result<Vec<u8>, WorldError> {
        let text = (self.package)(name).ok_or_else(|| WorldError::UnknownPackage(name.to_owned()))?;
        let source: PackageSource = described(name, &text)?;
        write_package(&source).map_err(|source| WorldError::Io { path: name.to_owned(), source })
    }

    fn write(&self, bench: &Bench, path: &str, content: &[u8]) -> Result<(), WorldError> {
        let at = if is_elsewhere(path, "C:")? { bench.elsewhere(path)? } else { bench.disk().locate_new(path)? };
        let folder = at.parent().unwrap_or(self.root);
        fs::create_dir_all(folder).map_err(io(folder))?;
        fs::write(&at, content).map_err(io(&at))
    }

    fn key_path(&self, row: &KeyRow) -> String {
        self.users_key(&row.path)
    }

    /// `HKU\maren\…` with that user's identifier.
    fn users_key(&self, path: &str) -> String {
        for user in &self.world.users {
            for own in ["", "_Classes"] {
                if let Some(rest) = path.strip_prefix(&format!("HKU\\{}{own}\\", user.name)) {
                    return format!("HKU\\{}{own}\\{rest}", user.sid);
                }
            }
        }
        path.to_owned()
    }

    /// Gives everything on the disk the world's date, deepest first, so that folders keep it.
    fn date_all(&self, at: &Path) -> Result<(), WorldError> {
        if at.is_dir() {
            for entry in fs::read_dir(at).map_err(io(at))? {
                self.date_all(&entry.map_err(io(at))?.path())?;
            }
        }
        let (seconds, nanos) = self.date_of(at).to_unix();
        filetime::set_file_mtime(at, filetime::FileTime::from_unix_time(seconds, nanos)).map_err(io(at))
    }

    fn date_of(&self, at: &Path) -> FileTime {
        let shown = |rest: &Path| rest.to_string_lossy().replace('/', "\\");
        let path = match at.strip_prefix(self.root.join("drives")) {
            Ok(rest) => shown(rest).replacen('\\', ":\\", 1),
            Err(_) => format!("C:\\{}", shown(at.strip_prefix(self.root.join("disk")).unwrap_or(at))),
        };
        let path = Place::file(path).folded().path;
        let row =
            self.world.files.iter().find(|row| row.dated.is_some() && several(&row.path).any(|one| fold(&one) == path));
        row.and_then(|row| row.dated).map_or(self.dated, file_time)
    }
}

fn reg_value(name: &str, row: &ValueRow) -> RegValue {
    match row {
        ValueRow::Text(text) => RegValue::text(name, text),
        ValueRow::Number(number) => RegValue::dword(name, *number),
        ValueRow::Other(OtherValue::Expand(text)) => RegValue::expand(name, text),
        ValueRow::Other(OtherValue::Multi(lines)) => RegValue::multi(name, lines),
        ValueRow::Other(OtherValue::Bytes(bytes)) => {
            RegValue { name: name.to_owned(), kind: stubble_core::model::registry::kind::BINARY, data: bytes.clone() }
        }
    }
}

/// The paths that a pattern `name{1..3}.ext` stands for.
fn several(pattern: &str) -> Box<dyn Iterator<Item = String> + '_> {
    let parsed = pattern.split_once('{').and_then(|(before, rest)| {
        let (range, after) = rest.split_once('}')?;
        let (first, last) = range.split_once("..")?;
        Some((before, first.parse::<u32>().ok()?, last.parse::<u32>().ok()?, after))
    });
    match parsed {
        Some((before, first, last, after)) => {
            Box::new((first..=last).map(move |number| format!("{before}{number:03}{after}")))
        }
        None => Box::new(std::iter::once(pattern.to_owned())),
    }
}

/// A self-relative security descriptor: administrators own it; system and administrators may do
/// all, users may read.
fn descriptor() -> Vec<u8> {
    let administrators: &[u8] = &[1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
    let users: &[u8] = &[1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x21, 2, 0, 0];
    let system: &[u8] = &[1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
    let mut list: Vec<u8> = Vec::new();
    for (sid, rights) in [(system, 0xF003Fu32), (administrators, 0xF003F), (users, 0x20019)] {
        // An entry that allows, inherited by subkeys.
        list.extend_from_slice(&[0, 2]);
        list.extend_from_slice(&(8 + sid.len() as u16).to_le_bytes());
        list.extend_from_slice(&rights.to_le_bytes());
        list.extend_from_slice(sid);
    }
    let mut acl = vec![2, 0];
    acl.extend_from_slice(&(8 + list.len() as u16).to_le_bytes());
    acl.extend_from_slice(&[3, 0, 0, 0]);
    acl.extend_from_slice(&list);
    let owner = 20 + acl.len() as u32;
    let group = owner + administrators.len() as u32;
    let mut descriptor = vec![1, 0, 4, 0x80];
    for offset in [owner, group, 0, 20] {
        descriptor.extend_from_slice(&offset.to_le_bytes());
    }
    descriptor.extend_from_slice(&acl);
    descriptor.extend_from_slice(administrators);
    descriptor.extend_from_slice(system);
    descriptor
}
