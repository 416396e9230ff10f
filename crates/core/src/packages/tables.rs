//! Reading the tables of a package.

use std::collections::BTreeMap;
use std::io::{self, Cursor, Read, Seek};

use super::{
    Action, Component, File, LaunchCondition, Package, PackageError, RegistryRow, Search, ServiceRow, ShortcutRow,
    Upgrade, Version,
};
use crate::content::Properties;
use crate::model::Guid;

type Msi<'b> = msi::Package<Cursor<&'b [u8]>>;

/// Rows of one table as columns by name; an absent table has no rows.
struct Rows(Vec<BTreeMap<String, msi::Value>>);

fn rows<R: Read + Seek>(package: &mut msi::Package<R>, table: &str) -> Result<Rows, PackageError> {
    let Some(columns) = package.get_table(table) else { return Ok(Rows(Vec::new())) };
    let names: Vec<String> = columns.columns().iter().map(|column| column.name().to_owned()).collect();
    let found = package.select_rows(msi::Select::table(table)).map_err(PackageError::NotAPackage)?;
    Ok(Rows(
        found.map(|row| names.iter().enumerate().map(|(at, name)| (name.clone(), row[at].clone())).collect()).collect(),
    ))
}

fn text(row: &BTreeMap<String, msi::Value>, column: &str) -> String {
    row.get(column).and_then(msi::Value::as_str).unwrap_or_default().to_owned()
}

fn number(row: &BTreeMap<String, msi::Value>, column: &str) -> i32 {
    row.get(column).and_then(msi::Value::as_int).unwrap_or(0)
}

/// The long name of a pair `SHORT~1|Long name`.
fn long_name(pair: &str) -> String {
    pair.rsplit('|').next().unwrap_or(pair).to_owned()
}

/// Name, manufacturer, version and codes; `None` where it is no package that has them.
pub(super) fn properties<R: Read + Seek>(file: R) -> Option<Properties> {
    let mut package = msi::Package::open(file).ok()?;
    let all = rows(&mut package, "Property").ok()?.0;
    let property = |name: &str| all.iter().find(|row| text(row, "Property") == name).map(|row| text(row, "Value"));
    Some(Properties {
        name: property("ProductName")?,
        code: property("ProductCode")?,
        manufacturer: property("Manufacturer").unwrap_or_default(),
        version: property("ProductVersion").unwrap_or_default(),
        upgrade: property("UpgradeCode").unwrap_or_default(),
    })
}

pub(super) fn read(bytes: &[u8]) -> Result<Package, PackageError> {
    let mut package = msi::Package::open(Cursor::new(bytes)).map_err(PackageError::NotAPackage)?;
    if !package.has_table("Property") {
        let none = io::Error::new(io::ErrorKind::InvalidData, "it has no table of properties");
        return Err(PackageError::NotAPackage(none));
    }
    let properties: BTreeMap<String, String> =
        rows(&mut package, "Property")?.0.iter().map(|row| (text(row, "Property"), text(row, "Value"))).collect();
    let property = |name: &str| properties.get(name).cloned().unwrap_or_default();
    let product_code: Guid = property("ProductCode").parse().map_err(|_| PackageError::Incomplete("ProductCode"))?;
    let version: Version =
        property("ProductVersion").parse().map_err(|()| PackageError::Incomplete("ProductVersion"))?;
    let name = property("ProductName");
    if name.is_empty() {
        return Err(PackageError::Incomplete("ProductName"));
    }
    let is_64 = package.summary_info().arch().is_some_and(|arch| arch.eq_ignore_ascii_case("x64"));
    let platform = package.summary_info().arch().unwrap_or_default().to_owned();
    let package_code = package.summary_info().uuid().and_then(|code| code.to_string().parse().ok());
    let mut not_understood = Vec::new();
    Ok(Package {
        product_code,
        upgrade_code: property("UpgradeCode").parse().ok(),
        package_code,
        name,
        manufacturer: property("Manufacturer"),
        version,
        is_64,
        platform,
        upgrades: upgrades(&mut package)?,
        conditions: rows(&mut package, "LaunchCondition")?
            .0
            .iter()
            .map(|row| LaunchCondition { condition: text(row, "Condition"), message: text(row, "Description") })
            .collect(),
        sequence: sequence(&mut package)?,
        directories: rows(&mut package, "Directory")?
            .0
            .iter()
            .map(|row| {
                let above = Some(text(row, "Directory_Parent")).filter(|above| !above.is_empty());
                let part = text(row, "DefaultDir");
                (text(row, "Directory"), (above, long_name(part.split(':').next().unwrap_or(&part))))
            })
            .collect(),
        components: components(&mut package)?,
        features: features(&mut package)?,
        files: files(&mut package)?,
        registry: registry(&mut package)?,
        shortcuts: rows(&mut package, "Shortcut")?
            .0
            .iter()
            .map(|row| ShortcutRow {
                directory: text(row, "Directory_"),
                name: long_name(&text(row, "Name")),
                component: text(row, "Component_"),
                target: text(row, "Target"),
            })
            .collect(),
        services: services(&mut package)?,
        starts: rows(&mut package, "ServiceControl")?
            .0
            .iter()
            .filter(|row| number(row, "Event") & 1 != 0)
            .map(|row| text(row, "Name"))
            .collect(),
        searches: searches(&mut package, &mut not_understood)?,
        cabinets: cabinets(&mut package, &mut not_understood)?,
        not_understood,
        imports: BTreeMap::new(),
        infs: Vec::new(),
        properties,
    })
}

fn upgrades(package: &mut Msi<'_>) -> Result<Vec<Upgrade>, PackageError> {
    let read = |row: &BTreeMap<String, msi::Value>| {
        let attributes = number(row, "Attributes");
        Some(Upgrade {
            code: text(row, "UpgradeCode").parse().ok()?,
            min: text(row, "VersionMin").parse().ok(),
            max: text(row, "VersionMax").parse().ok(),
            min_inclusive: attributes & 0x100 != 0,
            max_inclusive: attributes & 0x200 != 0,
            only_detect: attributes & 0x2 != 0,
            property: text(row, "ActionProperty"),
        })
    };
    let all: Option<Vec<Upgrade>> = rows(package, "Upgrade")?.0.iter().map(read).collect();
    all.ok_or(PackageError::Incomplete("upgrade table"))
}

fn sequence(package: &mut Msi<'_>) -> Result<Vec<Action>, PackageError> {
    let mut actions: Vec<Action> = rows(package, "InstallExecuteSequence")?
        .0
        .iter()
        .map(|row| Action {
            name: text(row, "Action"),
            condition: text(row, "Condition"),
            number: number(row, "Sequence"),
        })
        .filter(|action| action.number > 0)
        .collect();
    actions.sort_by_key(|action| action.number);
    Ok(actions)
}

fn components(package: &mut Msi<'_>) -> Result<Vec<Component>, PackageError> {
    Ok(rows(package, "Component")?
        .0
        .iter()
        .map(|row| {
            let attributes = number(row, "Attributes");
            Component {
                id: text(row, "Component"),
                code: text(row, "ComponentId").parse().ok(),
                directory: text(row, "Directory_"),
                key: text(row, "KeyPath"),
                key_is_registry: attributes & 4 != 0,
                is_64: attributes & 256 != 0,
                condition: text(row, "Condition"),
            }
        })
        .collect())
}

fn features(package: &mut Msi<'_>) -> Result<BTreeMap<String, Vec<String>>, PackageError> {
    let mut features: BTreeMap<String, Vec<String>> =
        rows(package, "Feature")?.0.iter().map(|row| (text(row, "Feature"), Vec::new())).collect();
    for row in &rows(package, "FeatureComponents")?.0 {
        features.entry(text(row, "Feature_")).or_default().push(text(row, "Component_"));
    }
    Ok(features)
}

fn files(package: &mut Msi<'_>) -> Result<Vec<File>, PackageError> {
    Ok(rows(package, "File")?
        .0
        .iter()
        .map(|row| File {
            id: text(row, "File"),
            component: text(row, "Component_"),
            name: long_name(&text(row, "FileName")),
            size: number(row, "FileSize").max(0) as u64,
            version: text(row, "Version"),
        })
        .collect())
}

fn registry(package: &mut Msi<'_>) -> Result<Vec<RegistryRow>, PackageError> {
    Ok(rows(package, "Registry")?
        .0
        .iter()
        .map(|row| RegistryRow {
            id: text(row, "Registry"),
            root: number(row, "Root"),
            key: text(row, "Key"),
            name: Some(text(row, "Name")).filter(|name| !name.is_empty()),
            value: text(row, "Value"),
            component: text(row, "Component_"),
        })
        .collect())
}

fn services(package: &mut Msi<'_>) -> Result<Vec<ServiceRow>, PackageError> {
    Ok(rows(package, "ServiceInstall")?
        .0
        .iter()
        .map(|row| ServiceRow {
            name: text(row, "Name"),
            display: text(row, "DisplayName"),
            kind: number(row, "ServiceType"),
            start: number(row, "StartType"),
            component: text(row, "Component_"),
            arguments: text(row, "Arguments"),
        })
        .collect())
}

fn searches(package: &mut Msi<'_>, not_understood: &mut Vec<String>) -> Result<Vec<Search>, PackageError> {
    let located = rows(package, "RegLocator")?;
    let mut searches = Vec::new();
    for row in &rows(package, "AppSearch")?.0 {
        let (property, signature) = (text(row, "Property"), text(row, "Signature_"));
        let found = located.0.iter().find(|locator| text(locator, "Signature_") == signature);
        match found {
            // Type 2 reads a value as it is; 16 more asks the 64-bit view.
            Some(locator) if number(locator, "Type") & 3 == 2 => searches.push(Search {
                property,
                root: number(locator, "Root"),
                key: text(locator, "Key"),
                name: text(locator, "Name"),
                is_64: number(locator, "Type") & 16 != 0,
            }),
            _ => not_understood.push(format!("the search that sets {property}")),
        }
    }
    Ok(searches)
}

fn cabinets(package: &mut Msi<'_>, not_understood: &mut Vec<String>) -> Result<Vec<String>, PackageError> {
    let mut names = Vec::new();
    for row in &rows(package, "Media")?.0 {
        match text(row, "Cabinet").strip_prefix('#') {
            Some(inside) => names.push(inside.to_owned()),
            None => not_understood.push(format!("files outside the package ({})", text(row, "Cabinet"))),
        }
    }
    Ok(names)
}
