//! Scheduled tasks: a file in the task library, and what the scheduler keeps of it in the registry.
//!
//! Publicly known locations: `System32\Tasks` with a file for each task, and the key
//! `Schedule\TaskCache` with the tree of names and, by identifier, what each task does and when.

use std::collections::BTreeMap;

use crate::content::Content;
use crate::model::Place;
use crate::model::path::program_of;
use crate::model::text::fold;
use crate::survey::{EntryKind, KeyId, NodeId, Survey};

const CACHE: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache";
/// Where the cache keeps something by a task's identifier.
const BY_ID: [&str; 5] = ["Tasks", "Plain", "Logon", "Boot", "Maintenance"];

/// A scheduled task.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Task {
    /// Its path in the task library, with a backslash in front.
    pub path: String,
    /// Its file, where it is there.
    pub file: Option<NodeId>,
    /// Its key in the cache that tells what it does, where it is there.
    pub cached: Option<KeyId>,
    /// Every place that makes it up.
    pub parts: Vec<Place>,
}

impl Task {
    /// The programs that it runs, as far as its file tells.
    pub fn programs(&self, survey: &Survey) -> Vec<String> {
        let told = survey.contents.iter().find(|told| Some(told.file) == self.file);
        let Some(Content::Task(definition)) = told.map(|told| &told.content) else { return Vec::new() };
        let program = |command: &String| program_of(command, &survey.environment(None), &|path| survey.has_file(path));
        definition.commands.iter().filter_map(program).collect()
    }
}

/// All tasks of a machine, also those of which only a part is left.
pub fn tasks(survey: &Survey) -> Vec<Task> {
    let mut found: BTreeMap<String, Task> = BTreeMap::new();
    let library = format!("{}\\System32\\Tasks", survey.facts.windows);
    if let Some(top) = survey.files.find(&library) {
        for file in survey.files.below(top).into_iter().filter(|at| survey.files.data(*at).kind == EntryKind::File) {
            let path = survey.files.path(file);
            let name = path[library.len()..].to_owned();
            let folder = folder_of_its_own(survey, &name, file);
            let task = found.entry(fold(&name)).or_insert_with(|| Task { path: name, ..Task::default() });
            task.file = Some(file);
            task.parts.push(match folder {
                Some(folder) => Place::folder(survey.files.path(folder)),
                None => Place::file(path),
            });
        }
    }
    if let Some(tree) = survey.registry.key(&format!("{CACHE}\\Tree")) {
        read_tree(survey, tree, "", &mut found);
    }
    found.into_values().collect()
}

/// The folder of a task, by its path in the library: one that lies directly there and is not Windows' own.
pub fn folder_of(task: &str) -> Option<&str> {
    let (folder, _) = task.get(1..)?.split_once('\\')?;
    (fold(folder) != "MICROSOFT").then(|| &task[..folder.len() + 1])
}

/// Several tasks as one, with the folder that holds nothing else; nothing where there is no such folder.
pub fn tasks_in(survey: &Survey, folder: &str) -> Option<Task> {
    let all = tasks(survey);
    let inside = |task: &&Task| folder_of(&task.path).is_some_and(|above| fold(above) == fold(folder));
    let inside: Vec<&Task> = all.iter().filter(inside).collect();
    let first = inside.first()?;
    let path = folder_of(&first.path)?.to_owned();
    let files = survey.files.find(&format!("{}\\System32\\Tasks{path}", survey.facts.windows));
    let tree = survey.registry.key(&format!("{CACHE}\\Tree{path}"));
    let whole =
        [files.map(|at| Place::folder(survey.files.path(at))), tree.map(|key| Place::key(survey.registry.path(key)))];
    let mut parts: Vec<Place> = whole.into_iter().flatten().collect();
    let others = inside.iter().flat_map(|task| &task.parts).filter(|part| !parts.iter().any(|one| part.is_within(one)));
    let others: Vec<Place> = others.cloned().collect();
    parts.extend(others);
    Some(Task { path, parts, ..Task::default() })
}

/// Whether a task lies in a folder of the library that is not Windows' own, and in none below it.
fn lies_in_folder(task: &str) -> bool {
    folder_of(task).is_some_and(|above| !task[above.len() + 1..].contains('\\'))
}

/// The folder in the library that holds a task's file and nothing else: it was made for it.
fn folder_of_its_own(survey: &Survey, task: &str, file: NodeId) -> Option<NodeId> {
    let folder = survey.files.parent(file);
    (lies_in_folder(task) && survey.files.children(folder).count() == 1).then_some(folder)
}

/// The key of a folder in the cache that holds a task's key and nothing else.
fn key_of_its_own(survey: &Survey, task: &str, key: KeyId) -> Option<KeyId> {
    let folder = survey.registry.keys().parent(key);
    (lies_in_folder(task) && survey.registry.keys().children(folder).count() == 1).then_some(folder)
}

fn read_tree(survey: &Survey, folder: KeyId, above: &str, found: &mut BTreeMap<String, Task>) {
    let registry = &survey.registry;
    for key in registry.keys().children(folder) {
        let name = format!("{above}\\{}", registry.name(key));
        // A folder of tasks has no identifier.
        if let Some(id) = registry.text(key, "Id").filter(|id| id.len() > 2 && !id.contains('\\')) {
            let task = found.entry(fold(&name)).or_insert_with(|| Task { path: name.clone(), ..Task::default() });
            task.parts.push(Place::key(registry.path(key_of_its_own(survey, &name, key).unwrap_or(key))));
            for part in BY_ID {
                let Some(cached) = registry.key(&format!("{CACHE}\\{part}\\{id}")) else { continue };
                task.parts.push(Place::key(registry.path(cached)));
                if part == "Tasks" {
                    task.cached = Some(cached);
                }
            }
        }
        read_tree(survey, key, &name, found);
    }
}
