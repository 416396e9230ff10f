//! What the package installer has registered on a machine.
//!
//! The locations are the publicly known ones: products, features and upgrade codes under
//! `Classes\Installer` (machine) and `Software\Microsoft\Installer` (user), and once more under
//! `CurrentVersion\Installer` with the components, by the identifier of the account.

use std::collections::{BTreeMap, BTreeSet};

use super::Version;
use crate::content::Content;
use crate::model::{Guid, Place};
use crate::survey::{NodeId, Survey};

/// The package installer's own key for its data.
pub const INSTALLER: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer";
/// The machine's registrations as programs see them.
pub const CLASSES: &str = "HKLM\\SOFTWARE\\Classes\\Installer";
/// The account under which products for all users are registered.
pub const SYSTEM_SID: &str = "S-1-5-18";
const UNINSTALL: &str = "Microsoft\\Windows\\CurrentVersion\\Uninstall";

/// The keys that hold the list of programs: machine in both views, then each user.
pub fn uninstall_keys(survey: &Survey) -> Vec<String> {
    let machine = survey.facts.software_views().into_iter().map(|view| format!("{view}\\{UNINSTALL}"));
    let users = survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE\\{UNINSTALL}", user.hive()));
    machine.chain(users).collect()
}

/// A product as the package installer has it registered.
#[derive(Clone, Debug, Default)]
pub struct Product {
    /// Its name; empty where no registration tells it.
    pub name: String,
    /// Its version, where a registration tells it.
    pub version: Option<Version>,
    /// Publisher, where told.
    pub publisher: String,
    /// Install folder, where told.
    pub location: Option<String>,
    /// The cached package, by the path registered for it.
    pub cached_package: Option<String>,
    /// Upgrade codes that lead to it.
    pub upgrade_codes: BTreeSet<Guid>,
    /// Every place of its registration, without its entry in the list of programs.
    pub parts: Vec<Place>,
    /// Its key in the list of programs, where it has one that people can see.
    pub entry: Option<String>,
    /// Key paths of its components.
    pub key_paths: Vec<String>,
    /// Whether more is registered than an upgrade code that leads to it.
    pub has_product_key: bool,
}

/// All registrations.
#[derive(Clone, Debug, Default)]
pub struct Registered {
    /// Products by code.
    pub products: BTreeMap<Guid, Product>,
    /// Component code to the products that share it.
    pub components: BTreeMap<Guid, BTreeMap<Guid, String>>,
}

impl Registered {
    /// Reads all registrations of a survey.
    pub fn read(survey: &Survey) -> Self {
        let mut all = Self::default();
        let users = survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE\\Microsoft\\Installer", user.hive()));
        for root in std::iter::once(CLASSES.to_owned()).chain(users) {
            all.read_products(survey, &root);
            all.read_upgrade_codes(survey, &format!("{root}\\UpgradeCodes"));
        }
        all.read_upgrade_codes(survey, &format!("{INSTALLER}\\UpgradeCodes"));
        for account in survey.registry.subkeys(&format!("{INSTALLER}\\UserData")) {
            all.read_user_data(survey, &survey.registry.path(account));
        }
        all.read_patches(survey);
        all.read_entries(survey);
        for product in all.products.values_mut() {
            product.parts.sort();
            product.parts.dedup();
        }
        all
    }

    /// Products that an upgrade code leads to.
    pub fn related(&self, code: Guid) -> impl Iterator<Item = (Guid, &Product)> {
        self.products
            .iter()
            .filter(move |(_, product)| product.upgrade_codes.contains(&code))
            .map(|(id, one)| (*id, one))
    }

    fn read_products(&mut self, survey: &Survey, root: &str) {
        let registry = &survey.registry;
        for key in registry.subkeys(&format!("{root}\\Products")) {
            let Some(code) = Guid::from_packed(registry.name(key)) else { continue };
            let product = self.products.entry(code).or_default();
            product.has_product_key = true;
            product.parts.push(Place::key(registry.path(key)));
            if let Some(name) = registry.text(key, "ProductName") {
                product.name = name;
            }
            if let Some(packed) = registry.value(key, "Version").and_then(|value| value.dword()) {
                product.version = Some(Version::from_packed(packed));
            }
        }
        for key in registry.subkeys(&format!("{root}\\Features")) {
            if let Some(code) = Guid::from_packed(registry.name(key)) {
                self.products.entry(code).or_default().parts.push(Place::key(registry.path(key)));
            }
        }
    }

    fn read_upgrade_codes(&mut self, survey: &Survey, root: &str) {
        let registry = &survey.registry;
        for key in registry.subkeys(root) {
            let Some(upgrade) = Guid::from_packed(registry.name(key)) else { continue };
            let path = registry.path(key);
            let products: Vec<(Guid, &str)> =
                registry.values(key).filter_map(|value| Some((Guid::from_packed(value.name)?, value.name))).collect();
            let alone = products.len() == 1 && registry.values(key).count() == 1;
            for (code, name) in products {
                let product = self.products.entry(code).or_default();
                product.upgrade_codes.insert(upgrade);
                product.parts.push(if alone { Place::key(&path) } else { Place::value(&path, name) });
            }
        }
    }

    fn read_user_data(&mut self, survey: &Survey, account: &str) {
        let registry = &survey.registry;
        for key in registry.subkeys(&format!("{account}\\Products")) {
            let Some(code) = Guid::from_packed(registry.name(key)) else { continue };
            let path = registry.path(key);
            let product = self.products.entry(code).or_default();
            product.has_product_key = true;
            product.parts.push(Place::key(&path));
            let Some(properties) = registry.key(&format!("{path}\\InstallProperties")) else { continue };
            let text = |name| registry.text(properties, name).filter(|text| !text.is_empty());
            if product.name.is_empty() {
                product.name = text("DisplayName").unwrap_or_default();
            }
            product.publisher = text("Publisher").unwrap_or_default();
            product.location = text("InstallLocation");
            product.cached_package = text("LocalPackage");
            if let Some(version) = text("DisplayVersion").and_then(|version| version.parse().ok()) {
                product.version = Some(version);
            }
        }
        for key in registry.subkeys(&format!("{account}\\Components")) {
            let Some(component) = Guid::from_packed(registry.name(key)) else { continue };
            let path = registry.path(key);
            let clients: Vec<(Guid, String, String)> = registry
                .values(key)
                .filter_map(|value| Some((Guid::from_packed(value.name)?, value.name.to_owned(), value.text()?)))
                .collect();
            let alone = clients.len() == 1 && registry.values(key).count() == 1;
            for (code, name, mut key_path) in clients {
                // So a file is spelled whose uses are counted.
                if key_path.get(1..3) == Some("?\\") {
                    key_path.replace_range(1..2, ":");
                }
                let product = self.products.entry(code).or_default();
                product.key_paths.push(key_path.clone());
                product.parts.push(if alone { Place::key(&path) } else { Place::value(&path, name) });
                self.components.entry(component).or_default().insert(code, key_path);
            }
        }
    }

    /// Patches are parts of the product that they alone are for: their registrations, and the package
    /// that the installer keeps of each.
    fn read_patches(&mut self, survey: &Survey) {
        let registry = &survey.registry;
        let mut clients: BTreeMap<Guid, BTreeSet<Guid>> = BTreeMap::new();
        for account in registry.subkeys(&format!("{INSTALLER}\\UserData")) {
            for key in registry.subkeys(&format!("{}\\Products", registry.path(account))) {
                let Some(product) = Guid::from_packed(registry.name(key)) else { continue };
                for patch in registry.subkeys(&format!("{}\\Patches", registry.path(key))) {
                    if let Some(patch) = Guid::from_packed(registry.name(patch)) {
                        clients.entry(patch).or_default().insert(product);
                    }
                }
            }
        }
        // A patch says itself which product it is for, also where the product's own keys are gone.
        let patches: BTreeMap<NodeId, Guid> = survey
            .contents
            .iter()
            .filter_map(|told| match &told.content {
                Content::Patch(code) => Some((told.file, code.parse().ok()?)),
                _ => None,
            })
            .collect();
        let users = registry.subkeys(&format!("{INSTALLER}\\UserData"));
        for key in users.iter().flat_map(|account| registry.subkeys(&format!("{}\\Patches", registry.path(*account)))) {
            let file = registry.text(key, "LocalPackage").and_then(|path| survey.entry(&path));
            let of = file.and_then(|file| patches.get(&file));
            if let (Some(patch), Some(of)) = (Guid::from_packed(registry.name(key)), of) {
                clients.entry(patch).or_default().insert(*of);
            }
        }
        let accounts = registry.subkeys(&format!("{INSTALLER}\\UserData")).into_iter();
        let roots = accounts.map(|account| registry.path(account)).chain([CLASSES.to_owned()]);
        for key in roots.flat_map(|root| registry.subkeys(&format!("{root}\\Patches"))) {
            let of = Guid::from_packed(registry.name(key)).and_then(|patch| clients.get(&patch));
            let Some(code) = of.filter(|of| of.len() == 1).and_then(|of| of.first()) else { continue };
            let product = self.products.entry(*code).or_default();
            product.parts.push(Place::key(registry.path(key)));
            if let Some(file) = registry.text(key, "LocalPackage").filter(|path| survey.has_file(path)) {
                product.parts.push(Place::file(file));
            }
        }
    }

    fn read_entries(&mut self, survey: &Survey) {
        let registry = &survey.registry;
        for list in uninstall_keys(survey) {
            for key in registry.subkeys(&list) {
                let Ok(code) = registry.name(key).parse::<Guid>() else { continue };
                let hidden = registry.value(key, "SystemComponent").and_then(|value| value.dword()) == Some(1);
                if let Some(product) = self.products.get_mut(&code)
                    && !hidden
                {
                    product.entry = Some(registry.path(key));
                }
            }
        }
    }
}

impl Product {
    /// Its name with the version, as far as they are registered.
    pub fn title(&self) -> String {
        match &self.version {
            Some(version) => format!("{} {version}", self.name),
            None => self.name.clone(),
        }
    }

    /// Whether the cached package that repair, upgrade and removal need is on the disk.
    /// `None` where no cached package is registered.
    pub fn cache_is_there(&self, survey: &Survey) -> Option<bool> {
        self.cached_package.as_deref().map(|path| survey.has_file(path))
    }

    /// Whether anything that the product installed is still on the disk.
    pub fn has_files(&self, survey: &Survey) -> bool {
        self.files().any(|path| survey.has_file(path))
    }

    /// Key paths that are files or folders; others begin with a number that stands for a part of the
    /// registry.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        let is_on_disk = |path: &&str| matches!(path.as_bytes(), [drive, b':', ..] if drive.is_ascii_alphabetic());
        self.key_paths.iter().map(String::as_str).filter(is_on_disk)
    }

    /// Whether everything is there that its registration names: its key, its entry in the list of programs, its cached
    /// package where one is named, its folder and its files.
    pub fn is_whole(&self, survey: &Survey) -> bool {
        let folder = self.location.as_deref().unwrap_or_default().trim_end_matches('\\');
        self.has_product_key
            && self.entry.is_some()
            && self.cache_is_there(survey) != Some(false)
            && (folder.is_empty() || survey.exists(folder))
            && self.files().all(|file| survey.exists(file))
    }

    /// Whether it blocks without being there: registered, in no list, and its package gone.
    pub fn is_phantom(&self, survey: &Survey) -> bool {
        self.entry.is_none() && self.cache_is_there(survey) != Some(true)
    }
}
