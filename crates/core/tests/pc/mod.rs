//! A machine in memory, put together line by line, for tests of the computation.

#![allow(dead_code)]

use std::collections::BTreeMap;

use stubble_core::content::{Content, InfFile, TaskFile, Told, Version};
use stubble_core::model::{FileTime, RegValue};
use stubble_core::packages::Registered;
use stubble_core::subject::{Identified, PackageFile, Subject, identify};
use stubble_core::survey::{
    Entry, EntryKind, Facts, Gap, Process, RegistryBuilder, Running, ServiceState, Shortcut, Survey, TreeBuilder, User,
};
use stubble_core::trace::{Decision, Remnant, Trace, trace};

pub const MAREN: &str = "S-1-5-21-1-1-1-1001";
pub const NIGHT: &str = "S-1-5-21-1-1-1-1002";
pub const TASK_CACHE: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache";
pub const UNINSTALL: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall";

/// Files and keys by path, in any order.
#[derive(Clone, Debug, Default)]
pub struct Pc {
    files: BTreeMap<String, (EntryKind, u64, u64)>,
    keys: BTreeMap<String, (u64, Vec<RegValue>)>,
    links: Vec<(String, String)>,
    told: BTreeMap<String, Content>,
    running: Running,
    gaps: Vec<Gap>,
    facts: Facts,
}

pub fn facts() -> Facts {
    let user = |name: &str, sid: &str| User {
        name: name.into(),
        sid: sid.into(),
        profile: format!("C:\\Users\\{name}"),
        folders: Default::default(),
    };
    Facts {
        computer: "WEIGH-03".into(),
        product: "Windows 10 Pro".into(),
        version: "10.0".into(),
        build: 19045,
        architecture: "AMD64".into(),
        control_set: "ControlSet001".into(),
        windows: "C:\\Windows".into(),
        program_files: "C:\\Program Files".into(),
        program_files_x86: Some("C:\\Program Files (x86)".into()),
        program_data: "C:\\ProgramData".into(),
        users: vec![user("maren", MAREN), user("night-shift", NIGHT)],
        free_bytes: Some(1 << 30),
        profiles: "C:\\Users".into(),
        ..Facts::default()
    }
}

impl Pc {
    pub fn new() -> Self {
        let mut pc = Self { facts: facts(), ..Self::default() };
        for folder in ["C:\\Windows\\System32", "C:\\Program Files", "C:\\Program Files (x86)", "C:\\ProgramData"] {
            pc.folder(folder);
        }
        for user in facts().users {
            pc.folder(&user.roaming()).folder(&user.local()).key(&format!("{}\\SOFTWARE", user.hive()), &[]);
        }
        pc.key(UNINSTALL, &[]);
        pc
    }

    pub fn folder(&mut self, path: &str) -> &mut Self {
        self.put(path, EntryKind::Folder, 0)
    }

    pub fn file(&mut self, path: &str) -> &mut Self {
        self.put(path, EntryKind::File, 100)
    }

    pub fn sized(&mut self, path: &str, size: u64) -> &mut Self {
        self.put(path, EntryKind::File, size)
    }

    pub fn link(&mut self, path: &str) -> &mut Self {
        self.put(path, EntryKind::Link, 0)
    }

    fn put(&mut self, path: &str, kind: EntryKind, size: u64) -> &mut Self {
        let mut above = path;
        while let Some((folder, _)) = above.rsplit_once('\\') {
            self.files.entry(folder.to_owned()).or_insert((EntryKind::Folder, 0, 7));
            above = folder;
        }
        self.files.insert(path.to_owned(), (kind, size, 7));
        self
    }

    pub fn remove(&mut self, path: &str) -> &mut Self {
        let below = format!("{path}\\");
        self.files.retain(|file, _| file != path && !file.starts_with(&below));
        self.keys.retain(|key, _| key != path && !key.starts_with(&below));
        self
    }

    /// Gives a file a time.
    pub fn dated(&mut self, path: &str, time: u64) -> &mut Self {
        self.file(path);
        self.files.get_mut(path).unwrap().2 = time;
        self
    }

    pub fn facts_mut(&mut self) -> &mut Facts {
        &mut self.facts
    }

    pub fn network(&mut self, connected: bool) -> &mut Self {
        self.running.network = Some(connected);
        self
    }

    /// Gives a key a time.
    pub fn written(&mut self, key: &str, time: u64) -> &mut Self {
        self.keys.get_mut(key).unwrap().0 = time;
        self
    }

    /// Moves a time stamp, of a file or of a key.
    pub fn touch(&mut self, path: &str) -> &mut Self {
        if let Some(entry) = self.files.get_mut(path) {
            entry.2 += 1;
        }
        if let Some(key) = self.keys.get_mut(path) {
            key.0 += 1;
        }
        self
    }

    pub fn key(&mut self, path: &str, values: &[(&str, &str)]) -> &mut Self {
        let mut above = path;
        while let Some((key, _)) = above.rsplit_once('\\') {
            self.keys.entry(key.to_owned()).or_insert((7, Vec::new()));
            above = key;
        }
        let entry = self.keys.entry(path.to_owned()).or_insert((7, Vec::new()));
        entry.1.extend(values.iter().map(|(name, text)| RegValue::text(name, text)));
        self
    }

    /// A value as it is, in place of one of that name.
    pub fn raw(&mut self, path: &str, value: RegValue) -> &mut Self {
        self.key(path, &[]);
        let values = &mut self.keys.get_mut(path).unwrap().1;
        values.retain(|other| other.name != value.name);
        values.push(value);
        self
    }

    pub fn listed(&mut self, key: &str, name: &str, publisher: &str, folder: &str) -> &mut Self {
        let path = format!("{UNINSTALL}\\{key}");
        self.key(&path, &[("DisplayName", name), ("Publisher", publisher), ("InstallLocation", folder)])
    }

    pub fn shortcut(&mut self, path: &str, target: &str) -> &mut Self {
        self.links.push((path.into(), target.into()));
        self.file(path)
    }

    /// A driver package with its INF and its driver, both in the store, and the driver among Windows' own.
    pub fn driver(&mut self, published: &str, inf: &str, provider: &str) -> &mut Self {
        let stem = inf.trim_end_matches(".inf");
        let store = format!("{inf}_amd64_{stem}");
        let database = "HKLM\\SYSTEM\\DriverDatabase";
        self.file(&format!("C:\\Windows\\INF\\{published}"))
            .file(&format!("C:\\Windows\\System32\\DriverStore\\FileRepository\\{store}\\{inf}"))
            .file(&format!("C:\\Windows\\System32\\DriverStore\\FileRepository\\{store}\\{stem}.sys"))
            .file(&format!("C:\\Windows\\System32\\drivers\\{stem}.sys"))
            .key(&format!("{database}\\DriverInfFiles\\{published}"), &[("", &store)])
            .key(
                &format!("{database}\\DriverPackages\\{store}"),
                &[("", published), ("InfName", inf), ("Provider", provider)],
            )
    }

    /// An INF with what it says.
    pub fn inf(&mut self, path: &str, provider: &str, brings: &[&str], digest: &str) -> &mut Self {
        let files = brings.iter().map(|name| name.to_uppercase()).collect();
        let inf = InfFile { provider: provider.to_owned(), files, digest: digest.to_owned() };
        self.told.insert(path.to_owned(), Content::Inf(inf));
        self.file(path)
    }

    /// A task by its path in the library, with what it runs.
    pub fn task(&mut self, path: &str, command: &str) -> &mut Self {
        let file = format!("C:\\Windows\\System32\\Tasks{path}");
        let task = TaskFile { commands: vec![command.to_owned()], ..TaskFile::default() };
        self.told.insert(file.clone(), Content::Task(task));
        self.file(&file)
    }

    /// Tasks, each with what the scheduler keeps of it under a number that counts on from 0.
    pub fn tasks(&mut self, tasks: &[(&str, &str)]) -> &mut Self {
        for (number, (path, command)) in tasks.iter().enumerate() {
            let id = format!("{{B61F52D7-8E40-4C12-9A53-0000000000{number:02}}}");
            self.task(path, command);
            self.key(&format!("{TASK_CACHE}\\Tree{path}"), &[("Id", &id)]);
            self.key(&format!("{TASK_CACHE}\\Tasks\\{id}"), &[("Path", path)]);
        }
        self
    }

    /// A program that says what it is a part of.
    pub fn program(&mut self, path: &str, product: &str) -> &mut Self {
        let version = Version { product: product.to_owned(), ..Version::default() };
        self.told.insert(path.to_owned(), Content::Program(version));
        self.file(path)
    }

    /// A file whose version resource names its maker.
    pub fn made_by(&mut self, path: &str, company: &str) -> &mut Self {
        let version = Version { company: company.to_owned(), ..Version::default() };
        self.told.insert(path.to_owned(), Content::Program(version));
        self.file(path)
    }

    pub fn service(&mut self, name: &str, command: &str, running: bool) -> &mut Self {
        self.running.services.push(ServiceState { name: name.into(), running, on_its_way: false, pid: None });
        let key = format!("HKLM\\SYSTEM\\ControlSet001\\Services\\{name}");
        self.key(&key, &[("ImagePath", command), ("DisplayName", name)])
    }

    /// The process that a service runs in.
    pub fn runs_as(&mut self, name: &str, pid: u32) -> &mut Self {
        self.running.services.iter_mut().filter(|one| one.name == name).for_each(|one| one.pid = Some(pid));
        self
    }

    /// The service hangs between running and not.
    pub fn hangs(&mut self, name: &str) -> &mut Self {
        self.running.services.iter_mut().filter(|one| one.name == name).for_each(|one| one.on_its_way = true);
        self
    }

    pub fn process(&mut self, image: &str, holds: &[&str]) -> &mut Self {
        self.running.processes.push(Process {
            pid: 100 + self.running.processes.len() as u32,
            image: image.into(),
            title: String::new(),
            user: "maren".into(),
            holds: holds.iter().map(|file| (*file).to_owned()).collect(),
        });
        self
    }

    pub fn restart_pending(&mut self, why: &str) -> &mut Self {
        self.running.restart_pending.push(why.into());
        self
    }

    pub fn gap(&mut self, what: &str) -> &mut Self {
        self.gaps.push(Gap { what: what.into(), why: "denied".into() });
        self
    }

    pub fn survey(&self) -> Survey {
        let root = Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) };
        let mut tree = TreeBuilder::new(root);
        let mut ids: BTreeMap<&str, u32> = BTreeMap::new();
        for (path, (kind, size, time)) in &self.files {
            let (above, name) = path.rsplit_once('\\').unwrap_or(("", path));
            let above = ids.get(above).copied().unwrap_or(0);
            ids.insert(path, tree.add(above, name, Entry { kind: *kind, size: *size, modified: FileTime(*time) }));
        }
        let mut registry = RegistryBuilder::default();
        let mut keys: BTreeMap<&str, u32> = BTreeMap::new();
        for (path, (time, values)) in &self.keys {
            let (above, name) = path.rsplit_once('\\').unwrap_or(("", path));
            let above = keys.get(above).copied().unwrap_or(0);
            let values = values.iter().map(|value| (value.name.as_str(), value.kind, value.data.as_slice()));
            keys.insert(path, registry.add(above, name, FileTime(*time), 1, values));
        }
        let told = self.told.iter().filter(|(path, _)| ids.contains_key(path.as_str()));
        let told = told.map(|(path, content)| Told { file: ids[path.as_str()], content: content.clone() });
        let shortcuts = self.links.iter().filter(|(path, _)| ids.contains_key(path.as_str()));
        let shortcuts = shortcuts.map(|(path, target)| Shortcut { file: ids[path.as_str()], target: target.clone() });
        Survey {
            facts: self.facts.clone(),
            shortcuts: shortcuts.collect(),
            contents: told.collect(),
            short_names: Vec::new(),
            files: tree.finish(),
            registry: registry.finish(),
            running: self.running.clone(),
            gaps: self.gaps.clone(),
        }
    }
}

/// The one product that a name means.
pub fn subject(survey: &Survey, packages: &[PackageFile], name: &str) -> Subject {
    match identify(survey, &Registered::read(survey), packages, name) {
        Identified::One(subject) => *subject,
        other => panic!("{name} is not one product: {other:?}"),
    }
}

/// The trace of the product that a name means.
pub fn traced(pc: &Pc, name: &str) -> Trace {
    let survey = pc.survey();
    let subject = subject(&survey, &[], name);
    trace(&survey, &Registered::read(&survey), &subject)
}

/// What the trace says of a place, if it is a remnant.
pub fn remnant<'t>(trace: &'t Trace, path: &str) -> Option<&'t Remnant> {
    trace.remnants.iter().find(|remnant| remnant.place.to_string() == path)
}

/// Paths of all remnants with that decision.
pub fn with(trace: &Trace, decision: Decision) -> Vec<String> {
    trace.remnants.iter().filter(|one| one.decision == decision).map(|one| one.place.to_string()).collect()
}

/// Where Scale Desk is installed.
pub const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

/// Scale Desk with its entry and its folder.
pub fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk 5.1", "Fennelgate Instruments Ltd.", DESK)
        .file(&format!("{DESK}\\desk.exe"));
    pc
}

/// Another product of the same publisher, with its folder beside.
pub fn label_bridge(pc: &mut Pc) {
    let folder = "C:\\Program Files\\Fennelgate\\Label Bridge";
    pc.listed("bridge", "Fennelgate Label Bridge", "Fennelgate Instruments", folder).file(&format!("{folder}\\lb.exe"));
}
