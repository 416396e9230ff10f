//! What products there are, and how each installs itself.

use fastrand::Rng;

use crate::machine::Machine;
use crate::names;

/// Who makes products.
#[derive(Clone, Debug)]
pub struct Publisher {
    /// The name with the form of the company, as lists show it.
    pub listed: String,
    /// The same as programs tell it, perhaps with another form.
    pub told: String,
    /// Name of its folders and keys.
    pub folder: String,
    /// The name that it had before, in older keys and folders.
    pub former: Option<String>,
    /// Its brand.
    pub brand: String,
}

/// How a product is registered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Setup {
    /// By the package installer.
    Package,
    /// By a script of its own.
    Script,
    /// By a script, for one user.
    PerUser,
}

/// A product and its ways.
#[derive(Clone, Debug)]
pub struct Product {
    /// Its name, without version.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Who makes it.
    pub publisher: Publisher,
    /// How it is registered.
    pub setup: Setup,
    /// Its install folder.
    pub folder: String,
    /// A short name for services and files.
    pub short: String,
    /// Whether it is a 32-bit program.
    pub is_32: bool,
    /// The user whose it is alone.
    pub user: usize,
    /// Product code, or the name of its entry in the list.
    pub code: String,
    /// Upgrade code.
    pub upgrade: String,
    /// Extension of its documents.
    pub extension: String,
}

impl Product {
    /// The software key of its view.
    pub fn software(&self) -> &'static str {
        if self.is_32 { "HKLM\\SOFTWARE\\WOW6432Node" } else { "HKLM\\SOFTWARE" }
    }

    /// Its main program.
    pub fn program(&self) -> String {
        format!("{}\\{}.exe", self.folder, self.short)
    }

    /// Publisher and name, as folders and keys have them below each other.
    pub fn below(&self) -> String {
        format!("{}\\{}", self.publisher.folder, self.plain())
    }

    /// The name as a folder has it.
    pub fn plain(&self) -> String {
        self.name.replace(['/', ':', '*', '?'], "")
    }

    /// The names of publisher and product, written together.
    pub fn together(&self) -> String {
        self.plain().replace(' ', "")
    }
}

fn publisher(rng: &mut Rng) -> Publisher {
    let plain = names::publisher(rng);
    let brand = plain.split(' ').next().unwrap_or(&plain).to_owned();
    let with_form = |rng: &mut Rng| format!("{plain} {}", names::form(rng)).trim().to_owned();
    let (listed, told) = (with_form(rng), with_form(rng));
    let folder = if rng.bool() { brand.clone() } else { plain.clone() };
    let former = (rng.u8(..5) == 0).then(|| names::publisher(rng));
    Publisher { listed, told, folder, former, brand }
}

/// Products of several publishers, some with similar names, some in one vendor folder.
pub fn products(rng: &mut Rng, machine: &Machine) -> Vec<Product> {
    let mut all: Vec<Product> = Vec::new();
    let mut publishers: Vec<Publisher> = Vec::new();
    while publishers.len() < 4 + rng.usize(..6) {
        let one = publisher(rng);
        if publishers.iter().all(|other| other.brand != one.brand) {
            publishers.push(one);
        }
    }
    for publisher in &publishers {
        let mut brand = publisher.brand.clone();
        for number in 0..1 + rng.usize(..5) {
            let mut noun = names::noun(rng);
            // A product that is derived from the one before, or one with a brand of its own.
            if let Some(last) = all.last().filter(|_| number > 0 && rng.u8(..4) == 0) {
                noun = last.name.trim_start_matches(&brand).trim().to_owned() + names::suffix(rng);
            } else if rng.u8(..3) == 0 {
                brand = match all.last() {
                    Some(last) if rng.bool() => names::similar_brand(rng, &last.publisher.brand),
                    _ => names::brand(rng),
                };
            }
            let name = if rng.u8(..6) == 0 { noun } else { format!("{brand} {noun}") };
            let is_known = |other: &Product| other.name.to_lowercase() == name.to_lowercase();
            if name.trim().is_empty() || all.iter().any(is_known) {
                continue;
            }
            let mut one = product(rng, machine, publisher, name);
            if all.iter().any(|other| other.short == one.short) {
                one.short = format!("{}{}", one.short, all.len());
            }
            if all.iter().all(|other| other.folder.to_lowercase() != one.folder.to_lowercase()) {
                all.push(one);
            }
        }
    }
    all
}

/// What a product has to do with the second drive.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum SecondDrive {
    /// It is installed in its folder of programs.
    AsOnTheFirst,
    /// It is installed where somebody wanted it.
    FolderOfPeoples,
    /// There is a copy of another PC's programs.
    Backup,
    /// Nothing.
    Nothing,
}

/// By its name alone, so that nothing else in a world hangs on it.
pub fn second_drive(name: &str) -> SecondDrive {
    let seed = name.bytes().fold(7u64, |seed, byte| seed.wrapping_mul(31).wrapping_add(byte.into()));
    match Rng::with_seed(seed).u8(..12) {
        0 => SecondDrive::AsOnTheFirst,
        1 => SecondDrive::FolderOfPeoples,
        2 => SecondDrive::Backup,
        _ => SecondDrive::Nothing,
    }
}

fn product(rng: &mut Rng, machine: &Machine, publisher: &Publisher, name: String) -> Product {
    let setup = match rng.u8(..8) {
        0..4 => Setup::Package,
        4..7 => Setup::Script,
        _ => Setup::PerUser,
    };
    let is_32 = setup != Setup::PerUser && rng.u8(..3) == 0;
    let user = rng.usize(..machine.users.len());
    let programs = match setup {
        Setup::PerUser => machine.users[user].folder("AppData\\Local\\Programs"),
        _ if second_drive(&name) == SecondDrive::AsOnTheFirst => "D:\\Program Files".to_owned(),
        _ if second_drive(&name) == SecondDrive::FolderOfPeoples => "D:\\Dairy".to_owned(),
        _ if is_32 => "C:\\Program Files (x86)".to_owned(),
        _ => "C:\\Program Files".to_owned(),
    };
    let without_brand = name.strip_prefix(&format!("{} ", publisher.brand)).unwrap_or(&name);
    let folder = match rng.u8(..6) {
        0 | 1 => format!("{programs}\\{}\\{name}", publisher.folder),
        2 => format!("{programs}\\{}\\{without_brand}", publisher.folder),
        3 => format!("{programs}\\{}\\{}", publisher.folder, without_brand.replace(' ', "")),
        _ => format!("{programs}\\{name}"),
    };
    let letters: String = name.to_lowercase().chars().filter(|letter| letter.is_ascii_alphanumeric()).collect();
    let short = match letters.len() {
        0..4 => format!("{}app", publisher.brand.to_lowercase()),
        _ => letters[..letters.len().min(5 + rng.usize(..6))].to_owned(),
    };
    let code = match setup {
        Setup::Package => names::guid(rng),
        _ if rng.bool() => names::guid(rng),
        _ => name.clone(),
    };
    let extension = format!("{}{}", &short[..3], rng.u8(10..99));
    let version = format!("{}.{}.{}", rng.u8(1..12), rng.u8(..10), rng.u8(..100));
    let upgrade = names::guid(rng);
    let publisher = publisher.clone();
    Product { name, version, publisher, setup, folder, short, is_32, user, code, upgrade, extension }
}
