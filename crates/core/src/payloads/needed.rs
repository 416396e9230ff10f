//! What has to be installed first, and which of the installers at hand bring it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::content::{Version, program};
use crate::footprint::{Footprint, Named};
use crate::model::path::{join, leaf, parent};
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind};
use crate::packages::layout::Layout;
use crate::packages::registered::uninstall_keys;
use crate::packages::{Package, Registered};
use crate::survey::Survey;

/// Sets of functions that the system resolves itself, whatever files it has.
const OF_THE_SYSTEM: [&str; 2] = ["API-MS-WIN-", "EXT-MS-"];

/// What an installer at hand brings, whoever's it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Brings {
    /// Its path.
    pub path: String,
    /// The product.
    pub product: String,
    /// Its upgrade code.
    pub upgrade_code: Option<Guid>,
    /// Whether it is a package for 64 bits.
    is_64: bool,
    /// Names of its files, folded.
    files: Vec<String>,
}

impl Brings {
    /// Looks into a file; `None` where it is no installer, or does not tell.
    pub fn read(path: &str, content: &[u8]) -> Option<Self> {
        let path = path.to_owned();
        match content.get(..4)? {
            [0xD0, 0xCF, 0x11, 0xE0] => {
                let package = Package::read(content).ok()?;
                let files = package.files.iter().map(|file| fold(&file.name)).collect();
                let is_64 = package.is_64;
                Some(Self { path, product: package.name, upgrade_code: package.upgrade_code, is_64, files })
            }
            [b'M', b'Z', ..] => {
                let read = program::at_hand(content);
                let Version { product, .. } = program::parse(&read)?;
                Some(Self { path, product, upgrade_code: None, is_64: false, files: Vec::new() })
            }
            _ => None,
        }
    }
}

/// Something that is not there, and that the product needs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Needed {
    /// The product, or the library.
    pub what: String,
    /// Why it is needed.
    pub why: String,
    /// Installers on the machine that bring it, with their products.
    pub brought_by: Vec<(String, String)>,
}

/// Everything that is to be installed before the product, with who brings it.
pub fn needed(
    survey: &Survey,
    registered: &Registered,
    package: Option<&Package>,
    footprint: Option<&Footprint>,
    at_hand: &[Brings],
) -> Vec<Needed> {
    let by = |fits: &dyn Fn(&Brings) -> bool| {
        at_hand.iter().filter(|one| fits(one)).map(|one| (one.path.clone(), one.product.clone())).collect()
    };
    let mut found = Vec::new();
    let needs = footprint.iter().flat_map(|print| print.needs.iter().map(|need| (need, print.name.as_str())));
    for (named, name) in needs.filter(|(named, _)| find_installed(survey, registered, named).is_none()) {
        let is_it = |one: &Brings| {
            named.upgrade_code.is_some() && one.upgrade_code == named.upgrade_code
                || !named.name.is_empty() && fold(&one.product) == fold(&named.name)
        };
        let what = match (named.name.as_str(), named.upgrade_code) {
            ("", Some(code)) => format!("the product with upgrade code {code}"),
            (name, _) => name.to_owned(),
        };
        found.push(Needed { what, why: format!("the footprint of {name} says so"), brought_by: by(&is_it) });
    }
    for ((library, is_64), programs) in package.map(|package| missing_libraries(survey, package)).unwrap_or_default() {
        let more =
            if programs.len() > 1 { format!(" and {} more ask", programs.len() - 1) } else { " asks".to_owned() };
        let why = format!("{}{more} for it, and neither the package nor Windows has it", programs[0]);
        let brought_by = by(&|one| one.is_64 == is_64 && one.files.contains(&fold(&library)));
        found.push(Needed { what: library, why, brought_by });
    }
    found
}

/// Returns the libraries that a package's programs ask for and that are missing, each with whether it is of 64 bits, and with the
/// names of those programs. Nothing where the system's own libraries are not at hand.
pub fn missing_libraries(survey: &Survey, package: &Package) -> BTreeMap<(String, bool), Vec<String>> {
    let mut missing: BTreeMap<(String, bool), Vec<String>> = BTreeMap::new();
    let system = join(&survey.facts.windows, "System32");
    if !survey.exists(&join(&system, "kernel32.dll")) {
        return missing;
    }
    let layout = Layout::on(package, survey, &Registered::read(survey));
    let own: Vec<String> = package.files.iter().map(|file| fold(&file.name)).collect();
    // A Windows of 64 bits keeps what programs of 32 bits load in a folder of its own.
    let of_32 = if survey.facts.program_files_x86.is_some() { "SysWOW64" } else { "System32" };
    for (id, asked) in &package.imports {
        let program = layout.file(id).unwrap_or(id);
        let own_system = if asked.is_64 { system.clone() } else { join(&survey.facts.windows, of_32) };
        let places = [own_system, survey.facts.windows.clone()];
        for library in &asked.libraries {
            let folded = fold(library);
            let beside = parent(program).is_some_and(|folder| survey.exists(&join(folder, library)));
            let is_there = own.contains(&folded)
                || OF_THE_SYSTEM.iter().any(|start| folded.starts_with(start))
                || beside
                || places.iter().any(|folder| survey.exists(&join(folder, library)));
            if !is_there {
                missing.entry((library.to_lowercase(), asked.is_64)).or_default().push(leaf(program).to_owned());
            }
        }
    }
    missing
}

/// The product that is meant, where it is installed.
pub fn find_installed(survey: &Survey, registered: &Registered, named: &Named) -> Option<(Place, String)> {
    let by_code = named.upgrade_code.and_then(|code| registered.related(code).next());
    if let Some((code, product)) = by_code {
        let name = if product.name.is_empty() { named.name.clone() } else { product.name.clone() };
        return Some((Place::new(PlaceKind::Product, code.to_string()), name));
    }
    if named.name.is_empty() {
        return None;
    }
    let registry = &survey.registry;
    for key in uninstall_keys(survey).iter().flat_map(|list| registry.subkeys(list)) {
        if let Some(name) = registry.text(key, "DisplayName").filter(|name| fold(name) == fold(&named.name)) {
            return Some((Place::key(registry.path(key)), name));
        }
    }
    None
}
