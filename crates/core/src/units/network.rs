//! What is tied into Windows' network: libraries that programs' connections pass through, and components
//! that network adapters are bound to.
//!
//! Publicly known: below `Services\WinSock2\Parameters`, each of `Protocol_Catalog9` and `NameSpace_Catalog5`
//! holds a list `Catalog_Entries` for 32-bit programs and `Catalog_Entries64` for 64-bit ones. A list's keys
//! are numbered from `000000000001` without a gap, and a value `Num_…` beside it counts them: a list with a gap
//! ends there, and with it the network. A protocol is one value, `PackedCatalogItem`: the path of its library
//! in 260 bytes, then Microsoft's `WSAPROTOCOL_INFOW`. Components stand below `Control\Network`, by class.

use std::collections::BTreeSet;

use crate::model::path::{is_inside_or_same, leaf, plain, program_of};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::{KeyId, Survey};

/// Keys that hold lists of layers.
pub const CATALOGS: [&str; 2] = ["Protocol_Catalog9", "NameSpace_Catalog5"];
/// The lists in each, for 32-bit programs and for 64-bit ones.
pub const LISTS: [&str; 2] = ["Catalog_Entries", "Catalog_Entries64"];

/// Bytes of a protocol's entry that hold the path of its library.
const PATH_BYTES: usize = 260;
/// Where in `WSAPROTOCOL_INFOW` the entry's number stands, then the length of its chain, then the chain.
const ENTRY_ID: usize = PATH_BYTES + 36;
const CHAIN_LENGTH: usize = ENTRY_ID + 4;
const CHAIN: usize = CHAIN_LENGTH + 4;
/// Links that a chain has at most.
const CHAIN_MOST: usize = 7;

/// Classes of what adapters are bound to: clients, services, protocols.
const CLASSES: [&str; 3] = [
    "{4D36E973-E325-11CE-BFC1-08002BE10318}",
    "{4D36E974-E325-11CE-BFC1-08002BE10318}",
    "{4D36E975-E325-11CE-BFC1-08002BE10318}",
];

/// One entry of a list of network layers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Path of the list's key.
    pub list: String,
    /// Path of the entry's own key.
    pub key: String,
    /// Path of its library, as it is written there; in what letters a code page's bytes were meant is not known.
    pub library: String,
    /// The file that is meant, by its own path; none where the letters leave it open.
    pub file: Option<String>,
    /// The number by which chains name it; none for what only looks names up.
    pub id: Option<u32>,
    /// The layers that its connections pass through, itself first.
    pub chain: Vec<u32>,
}

impl Layer {
    /// All entries of the same library in the same list: they go or stay together, see [`entries`].
    pub fn place(&self) -> Place {
        let entry = Some(self.library.clone());
        Place { entry, ..Place::new(PlaceKind::NetworkLayer, self.list.as_str()) }
    }
}

/// A component that is bound to network adapters.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Component {
    /// Its service.
    pub service: String,
    /// The published name of its driver package, where it has one.
    pub published: String,
}

/// The keys that are lists of layers.
pub fn lists(survey: &Survey) -> Vec<String> {
    let parameters = format!("{}\\WinSock2\\Parameters", survey.facts.services_key());
    let below = |catalog| LISTS.map(|list| format!("{parameters}\\{catalog}\\{list}"));
    CATALOGS.into_iter().flat_map(below).collect()
}

/// All network layers of a machine, in their order.
pub fn layers(survey: &Survey) -> Vec<Layer> {
    lists(survey).iter().flat_map(|list| layers_of(survey, list)).collect()
}

/// Layers whose library is not on the disk any more, each library once: connections that pass through them fail.
pub fn gone(survey: &Survey) -> Vec<Layer> {
    let system = survey.facts.windows.get(..2).unwrap_or("C:");
    let unseen = |path: &str| survey.gaps.iter().any(|gap| is_inside_or_same(path, &gap.what));
    let mut seen = BTreeSet::new();
    let is_gone = |library: &str| {
        let is_here = library.get(..2).is_some_and(|drive| drive.eq_ignore_ascii_case(system));
        let in_system = format!("{}\\SysWOW64\\{}", survey.facts.windows, leaf(library));
        is_here && !survey.exists(library) && !survey.exists(&in_system) && !unseen(library)
    };
    let mut found = layers(survey);
    found.retain(|layer| layer.file.as_deref().is_some_and(|library| is_gone(library) && seen.insert(fold(library))));
    found
}

/// The entries that a place stands for: those of one library in one list.
pub fn entries(survey: &Survey, place: &Place) -> Vec<Layer> {
    let library = fold(place.entry.as_deref().unwrap_or_default());
    let mut own = layers_of(survey, &place.path);
    own.retain(|layer| fold(&layer.library) == library);
    own
}

fn layers_of(survey: &Survey, list: &str) -> Vec<Layer> {
    let registry = &survey.registry;
    let mut keys: Vec<KeyId> = registry.subkeys(list);
    keys.sort_by_key(|key| registry.name(*key));
    let read = |key: &KeyId| {
        let path = registry.path(*key);
        let bare = |library: String| {
            let file = file_of(survey, &library, leaf(list) == LISTS[0]);
            Layer { list: list.to_owned(), key: path.clone(), library, file, id: None, chain: Vec::new() }
        };
        if let Some(library) = registry.text(*key, "LibraryPath") {
            return Some(bare(library));
        }
        let item = registry.value(*key, "PackedCatalogItem")?.data;
        let library = item.get(..PATH_BYTES)?.split(|byte| *byte == 0).next()?;
        let library = encoding_rs::WINDOWS_1252.decode_without_bom_handling(library).0.into_owned();
        let number = |at: usize| item.get(at..at + 4)?.try_into().ok().map(u32::from_le_bytes);
        let links = (number(CHAIN_LENGTH)? as usize).min(CHAIN_MOST);
        let chain = (0..links).filter_map(|link| number(CHAIN + 4 * link)).collect();
        Some(Layer { id: number(ENTRY_ID), chain, ..bare(library) })
    };
    keys.iter().filter_map(read).collect()
}

/// The file that a library's path means. Letters beyond ASCII stand for whatever letters a name on the disk has
/// in their place, as long as only one name fits. For 32-bit programs the folder of programs is that of theirs.
fn file_of(survey: &Survey, library: &str, is_32: bool) -> Option<String> {
    let native = "%ProgramFiles%";
    let library = match library.get(..native.len()).filter(|start| is_32 && start.eq_ignore_ascii_case(native)) {
        Some(_) => format!("%ProgramFiles(x86)%{}", &library[native.len()..]),
        None => library.to_owned(),
    };
    let path = plain(&library, &survey.environment(None));
    if path.is_ascii() || survey.exists(&path) {
        return Some(path);
    }
    let mut at = survey.files.root();
    for part in path.split('\\') {
        let mut fitting = survey.files.children(at).filter(|child| shape(survey.files.name(*child)) == shape(part));
        at = survey.files.child(at, part).or_else(|| fitting.next().filter(|_| fitting.next().is_none()))?;
    }
    Some(survey.files.path(at))
}

/// A name with one sign in place of each run of letters beyond ASCII.
fn shape(name: &str) -> String {
    let mut shape = String::new();
    for letter in fold(name).chars() {
        match letter.is_ascii() {
            true => shape.push(letter),
            false if shape.ends_with('*') => {}
            false => shape.push('*'),
        }
    }
    shape
}

/// What the value beside a list says of the number of its entries.
fn counted(survey: &Survey, list: &str) -> Option<usize> {
    let (above, name) = list.rsplit_once('\\')?;
    let count = survey.registry.value(survey.registry.key(above)?, &format!("Num_{name}"))?.dword()?;
    usize::try_from(count).ok()
}

/// Why entries of a library are never taken out of a list, or `None` where they may be.
pub fn why(survey: &Survey, place: &Place) -> Option<&'static str> {
    if !lists(survey).iter().any(|list| fold(list) == fold(&place.path)) {
        return Some("it is no list of the network's layers");
    }
    let all = layers_of(survey, &place.path);
    let library = fold(place.entry.as_deref().unwrap_or_default());
    let (own, others): (Vec<&Layer>, Vec<&Layer>) = all.iter().partition(|layer| fold(&layer.library) == library);
    let numbers = survey.registry.subkeys(&place.path).len();
    let named = |number: usize| survey.registry.key(&format!("{}\\{number:012}", place.path)).is_some();
    if numbers != all.len() || counted(survey, &place.path) != Some(numbers) || !(1..=numbers).all(named) {
        return Some("the list that it stands in is damaged");
    }
    let passes = |layer: &&Layer| layer.chain.iter().any(|id| own.iter().any(|one| one.id == Some(*id)));
    others.iter().any(passes).then_some("connections of another network layer pass through it")
}

/// Components that are bound to network adapters and did not come with Windows.
pub fn components(survey: &Survey) -> Vec<Component> {
    let registry = &survey.registry;
    let network = format!("HKLM\\SYSTEM\\{}\\Control\\Network", survey.facts.control_set);
    let instances = CLASSES.iter().flat_map(|class| registry.subkeys(&format!("{network}\\{class}")));
    let read = |key: KeyId| {
        let id = registry.text(key, "ComponentId").unwrap_or_default();
        let ndi = registry.key(&format!("{}\\Ndi", registry.path(key)))?;
        let service = registry.text(ndi, "Service").filter(|service| !service.is_empty())?;
        let is_windows = id.to_lowercase().starts_with("ms_");
        let published = registry.text(key, "InfPath").unwrap_or_default();
        (!is_windows).then_some(Component { service, published })
    };
    instances.filter_map(read).collect()
}

/// Why a service or a driver package of network adapters is not taken by us.
pub const BOUND: &str = "network adapters are bound to it, and would be cut off without it: uninstall it in the \
                         properties of an adapter first";

/// Programs of the services that adapters are bound to.
pub fn bound_programs(survey: &Survey) -> impl Iterator<Item = String> {
    let services = survey.facts.services_key();
    components(survey).into_iter().filter_map(move |component| {
        let key = survey.registry.key(&format!("{services}\\{}", component.service))?;
        let image = survey.registry.text(key, "ImagePath")?;
        program_of(&image, &survey.environment(None), &|path| survey.has_file(path))
    })
}
