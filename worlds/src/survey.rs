//! A world as a survey, as a backend would read it.

use std::collections::BTreeMap;

use stubble_core::content::{Content, Properties, TaskFile, Told, Version};
use stubble_core::model::{FileTime, RegValue};
use stubble_core::survey::{
    Entry, EntryKind, Facts, Gap, Process, RegistryBuilder, Running, Shortcut, Survey, TreeBuilder, User,
};

use crate::machine::{File, Machine, Mark, Whose};

fn facts(machine: &Machine) -> Facts {
    let users = machine.users.iter().map(|user| User {
        name: user.name.clone(),
        sid: user.sid.clone(),
        profile: format!("C:\\Users\\{}", user.name),
        folders: BTreeMap::new(),
    });
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
        profiles: "C:\\Users".into(),
        users: users.collect(),
        other_drives: vec!["D:".into()],
        free_bytes: Some(1 << 36),
        ..Facts::default()
    }
}

/// The value of a list with its entries.
fn list(name: &str, entries: &[(String, crate::machine::Mark)]) -> RegValue {
    let entries: Vec<&str> = entries.iter().map(|(entry, _)| entry.as_str()).collect();
    if name.ends_with("Filters") {
        let entries: Vec<String> = entries.into_iter().map(str::to_owned).collect();
        return RegValue::multi(name, &entries);
    }
    RegValue::expand(name, &entries.join(";"))
}

/// When things were made: each product at a time of its own, and its parts within minutes.
fn made(mark: &Mark, path: &str) -> FileTime {
    const MINUTE: u64 = 60 * 10_000_000;
    let day = match &mark.whose {
        Whose::Nobodys | Whose::Windows => 1,
        Whose::Product(number) => 10 + *number as u64,
        Whose::Shared(all) => 10 + all.first().copied().unwrap_or(0) as u64,
        Whose::Persons => 90,
    };
    FileTime((150_000 + day) * 1440 * MINUTE + path.len() as u64 % 5 * MINUTE)
}

/// The survey of a machine.
pub fn survey(machine: &Machine) -> Survey {
    let folder = Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) };
    let mut tree = TreeBuilder::new(folder);
    let mut ids: BTreeMap<&str, u32> = BTreeMap::new();
    let (mut shortcuts, mut contents) = (Vec::new(), Vec::new());
    for (path, (file, mark)) in &machine.files {
        let (above, name) = path.rsplit_once('\\').unwrap_or(("", path));
        let kind = match file {
            File::Folder => EntryKind::Folder,
            File::Link => EntryKind::Link,
            _ => EntryKind::File,
        };
        let size = if kind == EntryKind::File { 4096 } else { 0 };
        let at = tree.add(ids.get(above).copied().unwrap_or(0), name, Entry { kind, size, modified: made(mark, path) });
        ids.insert(path, at);
        match file {
            File::Shortcut(target) => shortcuts.push(Shortcut { file: at, target: target.clone() }),
            File::Program(company, product) => {
                let version = Version { company: company.clone(), product: product.clone(), ..Version::default() };
                contents.push(Told { file: at, content: Content::Program(version) });
            }
            File::Task(command) => {
                let task = TaskFile { commands: vec![command.clone()], ..TaskFile::default() };
                contents.push(Told { file: at, content: Content::Task(task) });
            }
            File::Package(name, manufacturer, code) => {
                let (name, manufacturer, code) = (name.clone(), manufacturer.clone(), code.clone());
                let package = Properties { name, manufacturer, code, ..Properties::default() };
                contents.push(Told { file: at, content: Content::Package(package) });
            }
            File::Patch(code) => contents.push(Told { file: at, content: Content::Patch(code.clone()) }),
            File::Folder | File::Plain | File::Link => {}
        }
    }
    let unread: Vec<&str> = machine.unread.iter().map(String::as_str).collect();
    let gaps = machine.unread.iter().map(|hive| Gap { what: hive.clone(), why: "it could not be read".to_owned() });
    let gaps: Vec<Gap> = gaps.collect();
    let is_unread = |key: &str| unread.iter().any(|hive| key == *hive || key.starts_with(&format!("{hive}\\")));
    let mut values: BTreeMap<&str, Vec<RegValue>> = BTreeMap::new();
    for ((key, _), (value, _)) in &machine.values {
        values.entry(key).or_default().push(value.clone());
    }
    for ((key, name), entries) in &machine.lists {
        values.entry(key).or_default().push(list(name, entries));
    }
    let mut registry = RegistryBuilder::default();
    let mut keys: BTreeMap<&str, u32> = BTreeMap::new();
    for (path, mark) in machine.keys.iter().filter(|(path, _)| !is_unread(path)) {
        let (above, name) = path.rsplit_once('\\').unwrap_or(("", path));
        let own = values.get(path.as_str()).map(Vec::as_slice).unwrap_or_default();
        let counts = machine.layer_counts(path);
        let own = own.iter().chain(&counts).map(|value| (value.name.as_str(), value.kind, value.data.as_slice()));
        let at = registry.add(keys.get(above).copied().unwrap_or(0), name, made(mark, path), 1, own);
        keys.insert(path, at);
        for (number, (layer, mark)) in machine.layers.get(path).into_iter().flatten().enumerate() {
            let value = layer.value();
            let values = [(value.name.as_str(), value.kind, value.data.as_slice())];
            registry.add(at, &format!("{:012}", number + 1), made(mark, path), 1, values);
        }
    }
    let processes = machine.running.iter().enumerate().map(|(number, image)| Process {
        pid: 100 + number as u32,
        image: image.clone(),
        title: String::new(),
        user: String::new(),
        holds: Vec::new(),
    });
    let running = Running { processes: processes.collect(), ..Running::default() };
    Survey {
        facts: facts(machine),
        files: tree.finish(),
        registry: registry.finish(),
        running,
        shortcuts,
        contents,
        short_names: ids.get("C:\\Program Files").map(|at| (*at, "PROGRA~1".to_owned())).into_iter().collect(),
        gaps,
    }
}
