//! A world as a survey, as a backend would read it.

use std::collections::BTreeMap;

use stubble_core::content::{Content, Properties, TaskFile, Told, Version};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, RegValue};
use stubble_core::survey::{
    Entry, EntryKind, Facts, Gap, Process, Registry, RegistryBuilder, Running, Shortcut, Survey, TreeBuilder, User,
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

/// A key's path as it is on the machine, whose first user is the one that was there before.
pub fn ground_path(path: &str, machine: &Machine) -> String {
    let parts: Vec<&str> = path.split('\\').collect();
    let (["HKU", sid, ..], Some(user)) = (&parts[..], machine.users.first()) else { return path.to_owned() };
    if !sid.starts_with("S-1-5-21-") {
        return path.to_owned();
    }
    let end = if sid.ends_with("_Classes") { "_Classes" } else { "" };
    let own = format!("{}{end}", user.sid);
    [&["HKU", own.as_str()], &parts[2..]].concat().join("\\")
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
    survey_on(machine, None)
}

/// The survey of a machine whose registry was another one before anything was installed. Of its users the first one
/// was there.
pub fn survey_on(machine: &Machine, ground: Option<&Registry>) -> Survey {
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
    let mut keys: BTreeMap<String, u32> = BTreeMap::new();
    let of_world: BTreeMap<String, &str> = machine.keys.keys().map(|path| (fold(path), path.as_str())).collect();
    let own_values = |path: &str| {
        let mut own = values.get(path).cloned().unwrap_or_default();
        own.extend(machine.layer_counts(path));
        own
    };
    for key in ground.into_iter().flat_map(|ground| ground.keys().all().map(move |key| (ground, key))) {
        let (ground, key) = key;
        let path = ground_path(&ground.path(key), machine);
        let Some((above, name)) = path.rsplit_once('\\').or(Some(("", path.as_str()))).filter(|_| !path.is_empty())
        else {
            continue;
        };
        // A list has the layers of the world, and no others.
        if is_unread(&path) || machine.layers.keys().any(|list| path.len() > list.len() && path.starts_with(list)) {
            continue;
        }
        let own = of_world.get(&fold(&path)).map(|path| own_values(path)).unwrap_or_default();
        let is_own = |name: &str| own.iter().any(|value| fold(&value.name) == fold(name));
        let before = ground.values(key).filter(|value| !is_own(value.name)).map(|value| value.to_owned());
        let all: Vec<RegValue> = before.chain(own.iter().cloned()).collect();
        let all = all.iter().map(|value| (value.name.as_str(), value.kind, value.data.as_slice()));
        let time = ground.keys().data(key).last_written;
        let at = registry.add(keys.get(&fold(above)).copied().unwrap_or(0), name, time, 1, all);
        keys.insert(fold(&path), at);
    }
    for (path, mark) in machine.keys.iter().filter(|(path, _)| !is_unread(path)) {
        let (above, name) = path.rsplit_once('\\').unwrap_or(("", path));
        let at = match keys.get(&fold(path)) {
            Some(at) => *at,
            None => {
                let own = own_values(path);
                let own = own.iter().map(|value| (value.name.as_str(), value.kind, value.data.as_slice()));
                registry.add(keys.get(&fold(above)).copied().unwrap_or(0), name, made(mark, path), 1, own)
            }
        };
        keys.insert(fold(path), at);
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
