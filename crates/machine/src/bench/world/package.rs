//! A real package (`.msi`) from its description: tables, and a cabinet inside.

use std::collections::BTreeMap;
use std::io::{Cursor, Write};

use msi::{Column, Insert, PackageType, Value};
use stubble_core::content::imports;
use uuid::Uuid;

use super::{FileSource, PackageSource};

/// Standard actions with their usual positions.
const SEQUENCE: [(&str, i32); 19] = [
    ("FindRelatedProducts", 25),
    ("AppSearch", 50),
    ("LaunchConditions", 100),
    ("ValidateProductID", 700),
    ("CostInitialize", 800),
    ("FileCost", 900),
    ("CostFinalize", 1000),
    ("InstallValidate", 1400),
    ("RemoveExistingProducts", 1450),
    ("InstallInitialize", 1500),
    ("ProcessComponents", 1600),
    ("InstallFiles", 4000),
    ("CreateShortcuts", 4500),
    ("WriteRegistryValues", 5000),
    ("InstallServices", 5800),
    ("StartServices", 5900),
    ("RegisterProduct", 6100),
    ("PublishFeatures", 6300),
    ("PublishProduct", 6400),
];

/// Makes the package. It is the same for the same description, byte for byte but for the format's
/// own time stamps.
pub fn write_package(source: &PackageSource) -> std::io::Result<Vec<u8>> {
    let mut writer = Writer {
        package: msi::Package::create(PackageType::Installer, Cursor::new(Vec::new()))?,
        source,
        folders: BTreeMap::new(),
    };
    writer.summary();
    writer.properties()?;
    writer.files()?;
    writer.registry()?;
    writer.shortcuts()?;
    writer.services()?;
    writer.decisions()?;
    writer.directories()?;
    Ok(writer.package.into_inner()?.into_inner())
}

struct Writer<'s> {
    package: msi::Package<Cursor<Vec<u8>>>,
    source: &'s PackageSource,
    /// Folder path as described, to its name in the tables.
    folders: BTreeMap<String, String>,
}

fn text(value: &str) -> Value {
    if value.is_empty() { Value::Null } else { Value::from(value) }
}

fn guid(code: Uuid) -> String {
    format!("{{{}}}", code.hyphenated().to_string().to_uppercase())
}

impl Writer<'_> {
    fn table(&mut self, name: &str, columns: Vec<Column>, rows: Vec<Vec<Value>>) -> std::io::Result<()> {
        self.package.create_table(name, columns)?;
        self.package.insert_rows(Insert::into(name).rows(rows))
    }

    fn summary(&mut self) {
        let (arch, code) = (if self.source.x64 { "x64" } else { "Intel" }, self.source.package_code);
        let (name, maker) = (self.source.name.clone(), self.source.manufacturer.clone());
        let summary = self.package.summary_info_mut();
        summary.set_title("Installation Database");
        summary.set_subject(name);
        summary.set_author(maker);
        summary.set_arch(arch);
        summary.set_uuid(code);
        summary.set_page_count(200);
        summary.set_word_count(2);
    }

    fn properties(&mut self) -> std::io::Result<()> {
        let source = self.source;
        let rows = [
            ("ProductCode", guid(source.product_code)),
            ("UpgradeCode", guid(source.upgrade_code)),
            ("ProductName", source.name.clone()),
            ("ProductVersion", source.version.clone()),
            ("Manufacturer", source.manufacturer.clone()),
            ("ProductLanguage", "1033".to_owned()),
            ("ALLUSERS", "1".to_owned()),
        ];
        let rows = rows.iter().map(|(name, value)| vec![Value::from(*name), Value::from(value.as_str())]).collect();
        let columns = vec![
            Column::build("Property").primary_key().id_string(72),
            Column::build("Value").localizable().text_string(0),
        ];
        self.table("Property", columns, rows)
    }

    /// The folder's name in the tables; it is made up when first asked for.
    fn folder(&mut self, path: &str) -> String {
        if let Some(known) = self.folders.get(path) {
            return known.clone();
        }
        let name = match path == self.source.folder {
            true => "INSTALLFOLDER".to_owned(),
            false => format!("D{}", self.folders.len() + 1),
        };
        self.folders.insert(path.to_owned(), name.clone());
        name
    }

    fn directories(&mut self) -> std::io::Result<()> {
        // Every folder above a folder is a row as well.
        let wanted: Vec<String> = self.folders.keys().cloned().collect();
        for path in wanted {
            let mut at = path.as_str();
            while let Some((above, _)) = at.rsplit_once('\\') {
                self.folder(above);
                at = above;
            }
        }
        let mut standard: Vec<String> = Vec::new();
        let mut rows: Vec<Vec<Value>> = vec![vec![Value::from("TARGETDIR"), Value::Null, Value::from("SourceDir")]];
        for (path, name) in &self.folders {
            let (above, part) = match path.rsplit_once('\\') {
                Some((above, part)) => (self.folders[above].clone(), part),
                // `[ProgramFiles64Folder]Fennelgate`: a standard folder and the first part below it.
                None => match path.trim_start_matches('[').split_once(']') {
                    Some((root, part)) => (root.to_owned(), part),
                    None => ("TARGETDIR".to_owned(), path.as_str()),
                },
            };
            if path.starts_with('[') && !path.contains('\\') && !standard.contains(&above) {
                standard.push(above.clone());
            }
            let part = if part.is_empty() { "." } else { part };
            let short = format!("{}|{part}", name.to_uppercase().chars().take(8).collect::<String>());
            rows.push(vec![Value::from(name.as_str()), Value::from(above.as_str()), Value::from(short.as_str())]);
        }
        for name in standard {
            rows.push(vec![Value::from(name.as_str()), Value::from("TARGETDIR"), Value::from(".")]);
        }
        let columns = vec![
            Column::build("Directory").primary_key().id_string(72),
            Column::build("Directory_Parent").nullable().id_string(72),
            Column::build("DefaultDir").localizable().string(255),
        ];
        self.table("Directory", columns, rows)
    }

    fn files(&mut self) -> std::io::Result<()> {
        let mut cabinet = cab::CabinetBuilder::new();
        let folder = cabinet.add_folder(cab::CompressionType::MsZip);
        let (mut components, mut files, mut features) = (Vec::new(), Vec::new(), Vec::new());
        for (number, file) in self.source.files.iter().enumerate() {
            let (id, component) = (file_id(number), component_id(number));
            let path = if file.name.starts_with('[') {
                file.name.clone()
            } else {
                format!("{}\\{}", self.source.folder, file.name)
            };
            let (above, name) = path.rsplit_once('\\').unwrap_or(("", &path));
            let directory = self.folder(above);
            let code = file.component.unwrap_or_else(|| made_up(self.source.upgrade_code, &file.name));
            let attributes = if self.source.x64 { 256 } else { 0 };
            components.push(vec![
                Value::from(component.as_str()),
                Value::from(guid(code).as_str()),
                Value::from(directory.as_str()),
                Value::Int(attributes),
                Value::Null,
                Value::from(id.as_str()),
            ]);
            let short = format!("F{number}.X|{name}");
            files.push(vec![
                Value::from(id.as_str()),
                Value::from(component.as_str()),
                Value::from(short.as_str()),
                Value::Int(content(self.source, file).len() as i32),
                text(&file.version),
                Value::Null,
                Value::Int(512),
                Value::Int(number as i32 + 1),
            ]);
            features.push(vec![Value::from("Main"), Value::from(component.as_str())]);
            folder.add_file(id);
        }
        let mut build = cabinet.build(Cursor::new(Vec::new()))?;
        for file in &self.source.files {
            if let Some(mut out) = build.next_file()? {
                out.write_all(&content(self.source, file))?;
            }
        }
        let bytes = build.finish()?.into_inner();
        self.package.write_stream("product.cab")?.write_all(&bytes)?;
        let last = self.source.files.len() as i32;
        let id = |name: &str| Column::build(name).primary_key().id_string(72);
        self.table(
            "Component",
            vec![
                id("Component"),
                Column::build("ComponentId").nullable().string(38),
                Column::build("Directory_").id_string(72),
                Column::build("Attributes").int16(),
                Column::build("Condition").nullable().string(255),
                Column::build("KeyPath").nullable().id_string(72),
            ],
            components,
        )?;
        self.table(
            "File",
            vec![
                id("File"),
                Column::build("Component_").id_string(72),
                Column::build("FileName").localizable().string(255),
                Column::build("FileSize").int32(),
                Column::build("Version").nullable().string(72),
                Column::build("Language").nullable().string(20),
                Column::build("Attributes").nullable().int16(),
                Column::build("Sequence").int16(),
            ],
            files,
        )?;
        self.table(
            "Feature",
            vec![
                Column::build("Feature").primary_key().id_string(38),
                Column::build("Feature_Parent").nullable().id_string(38),
                Column::build("Title").nullable().localizable().text_string(64),
                Column::build("Display").nullable().int16(),
                Column::build("Level").int16(),
                Column::build("Attributes").int16(),
            ],
            vec![vec![
                Value::from("Main"),
                Value::Null,
                Value::from("Main"),
                Value::Int(1),
                Value::Int(1),
                Value::Int(0),
            ]],
        )?;
        self.table(
            "FeatureComponents",
            vec![Column::build("Feature_").primary_key().id_string(38), id("Component_")],
            features,
        )?;
        self.table(
            "Media",
            vec![
                Column::build("DiskId").primary_key().int16(),
                Column::build("LastSequence").int16(),
                Column::build("Cabinet").nullable().string(255),
            ],
            vec![vec![Value::Int(1), Value::Int(last), Value::from("#product.cab")]],
        )
    }

    fn registry(&mut self) -> std::io::Result<()> {
        let rows = self.source.registry.iter().enumerate().map(|(number, row)| {
            vec![
                Value::from(format!("R{}", number + 1).as_str()),
                Value::Int(i32::from(row.root)),
                Value::from(row.key.as_str()),
                text(&row.name),
                text(&row.value),
                Value::from(component_id(0).as_str()),
            ]
        });
        let columns = vec![
            Column::build("Registry").primary_key().id_string(72),
            Column::build("Root").int16(),
            Column::build("Key").localizable().string(255),
            Column::build("Name").nullable().localizable().string(255),
            Column::build("Value").nullable().localizable().string(0),
            Column::build("Component_").id_string(72),
        ];
        let rows = rows.collect();
        self.table("Registry", columns, rows)
    }

    fn shortcuts(&mut self) -> std::io::Result<()> {
        let mut rows = Vec::new();
        for (number, row) in self.source.shortcuts.iter().enumerate() {
            let folder = self.folder(&format!("[ProgramMenuFolder]{}", row.folder));
            let target = format!("[#{}]", self.file_named(&row.target));
            let name = format!("S{number}|{}", row.name);
            rows.push(vec![
                Value::from(format!("Shortcut{}", number + 1).as_str()),
                Value::from(folder.as_str()),
                Value::from(name.as_str()),
                Value::from(component_id(0).as_str()),
                Value::from(target.as_str()),
            ]);
        }
        let columns = vec![
            Column::build("Shortcut").primary_key().id_string(72),
            Column::build("Directory_").id_string(72),
            Column::build("Name").localizable().string(128),
            Column::build("Component_").id_string(72),
            Column::build("Target").string(255),
        ];
        self.table("Shortcut", columns, rows)
    }

    fn services(&mut self) -> std::io::Result<()> {
        let (mut installs, mut controls) = (Vec::new(), Vec::new());
        for (number, row) in self.source.services.iter().enumerate() {
            let at = self.source.files.iter().position(|file| file.name == row.program).unwrap_or(0);
            let component = component_id(at);
            installs.push(vec![
                Value::from(format!("Service{}", number + 1).as_str()),
                Value::from(row.name.as_str()),
                Value::from(row.display.as_str()),
                Value::Int(16),
                Value::Int(2),
                Value::Int(1),
                Value::Null,
                Value::from(component.as_str()),
            ]);
            controls.push(vec![
                Value::from(format!("Control{}", number + 1).as_str()),
                Value::from(row.name.as_str()),
                // Start at install, stop and delete at removal.
                Value::Int(1 | 0x20 | 0x80),
                Value::Int(1),
                Value::from(component.as_str()),
            ]);
        }
        let id = |name: &str| Column::build(name).primary_key().id_string(72);
        self.table(
            "ServiceInstall",
            vec![
                id("ServiceInstall"),
                Column::build("Name").string(255),
                Column::build("DisplayName").nullable().localizable().string(255),
                Column::build("ServiceType").int32(),
                Column::build("StartType").int32(),
                Column::build("ErrorControl").int32(),
                Column::build("Arguments").nullable().string(255),
                Column::build("Component_").id_string(72),
            ],
            installs,
        )?;
        self.table(
            "ServiceControl",
            vec![
                id("ServiceControl"),
                Column::build("Name").localizable().string(255),
                Column::build("Event").int16(),
                Column::build("Wait").nullable().int16(),
                Column::build("Component_").id_string(72),
            ],
            controls,
        )
    }

    fn decisions(&mut self) -> std::io::Result<()> {
        let upgrades = self.source.upgrades.iter().map(|row| {
            vec![
                Value::from(guid(row.code).as_str()),
                Value::Null,
                text(&row.below),
                Value::Null,
                Value::Int(if row.remove { 0x100 } else { 0x100 | 2 }),
                Value::Null,
                Value::from(row.property.as_str()),
            ]
        });
        let upgrades = upgrades.collect();
        self.table(
            "Upgrade",
            vec![
                Column::build("UpgradeCode").primary_key().string(38),
                Column::build("VersionMin").primary_key().nullable().string(20),
                Column::build("VersionMax").primary_key().nullable().string(20),
                Column::build("Language").primary_key().nullable().string(255),
                Column::build("Attributes").primary_key().int32(),
                Column::build("Remove").nullable().string(255),
                Column::build("ActionProperty").id_string(72),
            ],
            upgrades,
        )?;
        let conditions = self.source.conditions.iter();
        let conditions =
            conditions.map(|row| vec![Value::from(row.holds.as_str()), Value::from(row.message.as_str())]).collect();
        self.table(
            "LaunchCondition",
            vec![
                Column::build("Condition").primary_key().string(255),
                Column::build("Description").localizable().string(255),
            ],
            conditions,
        )?;
        let actions = SEQUENCE.iter().chain([&("InstallFinalize", 6600)]);
        let rows = actions.map(|(name, number)| vec![Value::from(*name), Value::Null, Value::Int(*number)]).collect();
        self.table(
            "InstallExecuteSequence",
            vec![
                Column::build("Action").primary_key().id_string(72),
                Column::build("Condition").nullable().string(255),
                Column::build("Sequence").nullable().int16(),
            ],
            rows,
        )
    }

    fn file_named(&self, name: &str) -> String {
        file_id(self.source.files.iter().position(|file| file.name == name).unwrap_or(0))
    }
}

fn file_id(number: usize) -> String {
    format!("file{}", number + 1)
}

fn component_id(number: usize) -> String {
    format!("C{}", number + 1)
}

/// An identifier that is always the same for the same product and name.
fn made_up(code: Uuid, name: &str) -> Uuid {
    let mut hasher = blake3::Hasher::new();
    hasher.update(code.as_bytes()).update(name.as_bytes());
    let bytes: [u8; 16] = hasher.finalize().as_bytes()[..16].try_into().expect("sixteen bytes");
    Uuid::from_bytes(bytes)
}

fn content(source: &PackageSource, file: &FileSource) -> Vec<u8> {
    let libraries: Vec<&str> = file.imports.iter().map(String::as_str).collect();
    match &file.text {
        Some(text) => text.clone().into_bytes(),
        None if !libraries.is_empty() => imports::file(&libraries),
        None => filler(&format!("{} {} {}", source.name, file.version, file.name), file.size),
    }
}

/// Made-up bytes, the same for the same name.
pub(super) fn filler(name: &str, size: u64) -> Vec<u8> {
    let mut bytes = vec![0; size as usize];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}
