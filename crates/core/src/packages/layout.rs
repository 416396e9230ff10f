//! Where a package's files, values, shortcuts and services go on a given machine.

use std::collections::BTreeMap;

use super::folders::{self, Folders};
use super::{Component, Package, Registered, RegistryRow, predict};
use crate::model::registry::RegValue;
use crate::model::{Place, path};
use crate::survey::{Facts, Survey};

/// A package laid out on one machine: every path resolved.
#[derive(Debug)]
pub struct Layout<'p> {
    package: &'p Package,
    folders: Folders,
    properties: BTreeMap<String, String>,
    files: BTreeMap<String, String>,
    software: String,
}

/// A registry value in its final place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedValue {
    /// The key's path.
    pub key: String,
    /// The value.
    pub value: RegValue,
}

impl<'p> Layout<'p> {
    /// Lays the package out for a machine, in the folders that its tables name.
    pub fn new(package: &'p Package, facts: &Facts) -> Self {
        Self::in_folders(package, facts, folders::folders(package, facts, &package.properties, Folders::new()))
    }

    /// Lays the package out where its product is installed on a machine, or where it will be: in the folders of the
    /// files that the package installer has registered for it, and in those that its own searches find.
    pub fn on(package: &'p Package, survey: &Survey, registered: &Registered) -> Self {
        let known = folders::registered(package, registered);
        let set = predict::properties(package, survey);
        Self::in_folders(package, &survey.facts, folders::folders(package, &survey.facts, &set, known))
    }

    fn in_folders(package: &'p Package, facts: &Facts, folders: Folders) -> Self {
        let software = match (package.is_64, &facts.program_files_x86) {
            (false, Some(_)) => "HKLM\\SOFTWARE\\WOW6432Node",
            _ => "HKLM\\SOFTWARE",
        };
        let mut layout = Self {
            package,
            folders,
            properties: package.properties.clone(),
            files: BTreeMap::new(),
            software: software.to_owned(),
        };
        let files: BTreeMap<String, String> = package
            .files
            .iter()
            .filter_map(|file| {
                let component = package.component(&file.component)?;
                Some((file.id.clone(), path::join(&layout.folder(&component.directory), &file.name)))
            })
            .collect();
        layout.files = files;
        layout
    }

    /// Full path of a folder by its name in the tables.
    pub fn folder(&self, name: &str) -> String {
        self.folders.get(name).cloned().unwrap_or_default()
    }

    /// Full path of a file by its name in the tables.
    pub fn file(&self, id: &str) -> Option<&str> {
        self.files.get(id).map(String::as_str)
    }

    /// The folder that the product is installed in, by convention of its tables.
    pub fn install_folder(&self) -> Option<String> {
        self.folders.get("INSTALLFOLDER").or_else(|| self.folders.get("INSTALLDIR")).cloned()
    }

    /// The machine's software key in the view that the package writes to.
    pub fn software(&self) -> &str {
        &self.software
    }

    /// Where a component's key path is, as the installer registers it.
    pub fn key_path(&self, component: &Component) -> Option<String> {
        if !component.key_is_registry {
            return self.file(&component.key).map(str::to_owned);
        }
        let row = self.package.registry.iter().find(|row| row.id == component.key)?;
        let view = if component.is_64 { 20 } else { 0 };
        let name = row.name.as_deref().unwrap_or("");
        Some(format!(
            "{:02}:\\{}\\{}",
            row.root.max(0) + view,
            self.formatted(&row.key).trim_end_matches('\\'),
            self.formatted(name)
        ))
    }

    /// A registry row in its place. Rows for a user's own registry have none on the machine.
    pub fn value(&self, row: &RegistryRow) -> Option<PlacedValue> {
        // The package installer makes the same key of a row whose key ends in a backslash.
        let key = self.formatted(&row.key);
        let key = key.trim_end_matches('\\');
        let key = match row.root {
            2 | -1 => match key.split_once('\\') {
                Some((top, rest)) if top.eq_ignore_ascii_case("SOFTWARE") => path::join(&self.software, rest),
                _ => format!("HKLM\\{key}"),
            },
            0 => format!("{}\\Classes\\{key}", self.software),
            _ => return None,
        };
        let name = row.name.as_deref().map(|name| self.formatted(name)).unwrap_or_default();
        let content = self.formatted(&row.value);
        let value = match (content.strip_prefix("#%"), content.strip_prefix("##"), content.strip_prefix('#')) {
            (Some(expand), _, _) => RegValue::expand(&name, expand),
            (_, Some(_), _) => RegValue::text(&name, &content[1..]),
            (_, _, Some(number)) if number.parse::<i64>().is_ok() => {
                RegValue::dword(&name, number.parse::<i64>().unwrap_or(0) as u32)
            }
            _ => RegValue::text(&name, &content),
        };
        Some(PlacedValue { key, value })
    }

    /// A shortcut's file and the path that it leads to.
    pub fn shortcuts(&self) -> Vec<(String, String)> {
        let rows = self.package.shortcuts.iter();
        rows.map(|row| {
            let file = path::join(&self.folder(&row.directory), &format!("{}.lnk", row.name));
            (file, self.formatted(&row.target))
        })
        .collect()
    }

    /// The command line of a service.
    pub fn service_command(&self, component: &str, arguments: &str) -> Option<String> {
        let program = self.file(&self.package.component(component)?.key)?;
        let quoted = format!("\"{program}\"");
        Some(if arguments.is_empty() { quoted } else { format!("{quoted} {}", self.formatted(arguments)) })
    }

    /// Every place on the disk and in the registry that the package's tables write, without the
    /// installer's own registrations.
    pub fn places(&self) -> Vec<Place> {
        let mut places: Vec<Place> = self.files.values().map(Place::file).collect();
        places.extend(self.shortcuts().into_iter().map(|(file, _)| Place::file(file)));
        places.extend(
            self.package
                .registry
                .iter()
                .filter_map(|row| self.value(row))
                .map(|placed| Place::value(placed.key, placed.value.name)),
        );
        places
    }

    /// Text with `[Property]`, `[#File]` and `[Folder]` replaced; what is unknown becomes empty.
    pub fn formatted(&self, text: &str) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some((before, from)) = rest.split_once('[') {
            let Some((name, behind)) = from.split_once(']') else { break };
            out.push_str(before);
            match name.strip_prefix(['#', '!']) {
                Some(file) => out.push_str(self.file(file).unwrap_or_default()),
                None => match self.folders.get(name) {
                    Some(folder) => out.push_str(&path::join(folder, "")),
                    None => out.push_str(self.properties.get(name).map_or("", String::as_str)),
                },
            }
            rest = behind;
        }
        out + rest
    }
}
