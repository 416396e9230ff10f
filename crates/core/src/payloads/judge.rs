//! What a file is as an installer, and what speaks for it and against it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::places::{FoundIn, UNFINISHED};
use super::{Checksum, Launch, carried, switches};
use crate::content::pe::Headers;
use crate::content::{Version, program};
use crate::footprint::Footprint;
use crate::model::text::fold;
use crate::packages::{Package, Version as Number};
use crate::subject::AnchorKind;
use crate::trace::Scene;

/// What kind of installer it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PayloadKind {
    /// A package of the package installer.
    Package,
    /// A program.
    Program,
}

/// A file that can be the installer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Candidate {
    /// Its path on the machine.
    pub path: String,
    /// What the place is.
    pub found_in: FoundIn,
    /// What it is.
    pub kind: PayloadKind,
    /// The product that it installs; empty where it does not tell.
    pub product: String,
    /// Its version.
    pub version: String,
    /// Who made it.
    pub publisher: String,
    /// The processor architecture that it is made for; empty where it does not tell.
    pub architecture: String,
    /// The language number of a package; empty where it does not tell.
    pub language: String,
    /// Size in bytes.
    pub size: u64,
    /// SHA-256 of the whole file.
    pub sha256: String,
    /// Whether all of it is there.
    pub complete: bool,
    /// What speaks for it.
    pub favours: Vec<String>,
    /// What speaks against it.
    pub against: Vec<String>,
    /// Whether it can be used as the subject's installer.
    pub usable: bool,
    /// Whether this PC can run it, by its architecture, and all that it installs is in it.
    #[serde(skip)]
    fits: bool,
    #[serde(skip)]
    order: Option<Number>,
}

/// Looks into a file. `None` where it is no installer, or another product's.
pub fn judge(
    scene: &Scene<'_>,
    footprint: Option<&Footprint>,
    place: (&str, FoundIn),
    content: &[u8],
    beside: Option<Checksum>,
) -> Option<Candidate> {
    let (path, found_in) = place;
    let mut one = Candidate {
        path: path.to_owned(),
        found_in,
        kind: PayloadKind::Package,
        product: String::new(),
        version: String::new(),
        publisher: String::new(),
        architecture: String::new(),
        language: String::new(),
        size: content.len() as u64,
        sha256: crate::confirm::seal::sha256(content),
        complete: true,
        favours: Vec::new(),
        against: Vec::new(),
        usable: false,
        fits: true,
        order: None,
    };
    let is_own = match content.get(..4)? {
        [0xD0, 0xCF, 0x11, 0xE0] => package(scene, footprint, content, &mut one)?,
        [b'M', b'Z', ..] => executable(scene, content, &mut one)?,
        _ => return None,
    };
    if !is_own {
        return None;
    }
    let extension = fold(path.rsplit_once('.').map_or("", |(_, extension)| extension));
    if UNFINISHED.contains(&extension.as_str()) {
        one.against.push("its name says that the download is not finished".to_owned());
        one.complete = false;
    }
    match beside {
        Some(Checksum { sha256, file }) if sha256 == one.sha256 => one.favours.push(format!("{file} has its checksum")),
        Some(Checksum { file, .. }) => {
            one.against.push(format!("{file} has another checksum: it is damaged, or another version"));
            one.complete = false;
        }
        None => {}
    }
    one.usable = one.complete && one.fits && one.found_in != FoundIn::Cache;
    Some(one)
}

fn package(scene: &Scene<'_>, footprint: Option<&Footprint>, content: &[u8], one: &mut Candidate) -> Option<bool> {
    let package = match Package::read(content) {
        Ok(package) => package,
        Err(error) => {
            // Whose it is cannot be told any more; only where the product is looked for is it worth a word.
            one.complete = false;
            one.against.push(error.to_string());
            return Some(matches!(one.found_in, FoundIn::PublishersData | FoundIn::Named));
        }
    };
    one.product.clone_from(&package.name);
    one.version = package.version.to_string();
    one.publisher.clone_from(&package.manufacturer);
    one.architecture.clone_from(&package.platform);
    one.language = package.properties.get("ProductLanguage").cloned().unwrap_or_default();
    one.order = Some(package.version.clone());
    let codes = [AnchorKind::ProductCode, AnchorKind::UpgradeCode].map(|kind| scene.subject.codes(kind)).concat();
    let by_family = package.upgrade_code.is_some_and(|code| codes.contains(&code));
    // An installer of a predecessor is none for the product.
    let is_earlier = scene.subject.all(AnchorKind::EarlierName).any(|name| fold(name) == fold(&package.name));
    let by_name = scene.is_subject_name(&package.name) && !is_earlier;
    if !by_family && !codes.contains(&package.product_code) && !by_name {
        return Some(false);
    }
    if by_family {
        one.favours.push("it has the product's upgrade code".to_owned());
    } else {
        one.favours.push("it has the product's name".to_owned());
    }
    match package.contents(content) {
        Err(error) => {
            one.complete = false;
            one.against.push(error.to_string());
        }
        Ok(held) => {
            let whole =
                |file: &&crate::packages::File| held.get(&file.id).is_some_and(|held| held.len() as u64 == file.size);
            let there = package.files.iter().filter(whole).count();
            match there == package.files.len() {
                true => one.favours.push(format!("all of its {there} files are in it")),
                false => {
                    one.complete = false;
                    one.against.push(format!(
                        "{} of its {} files are not in it",
                        package.files.len() - there,
                        package.files.len()
                    ));
                }
            }
        }
    }
    let is_32 = scene.survey.facts.program_files_x86.is_none();
    if package.is_64 && is_32 {
        one.fits = false;
        one.against.push(MADE_FOR_64.to_owned());
    }
    if footprint.is_some_and(|print| print.product_code == Some(package.product_code)) {
        one.favours.push("it is the version that the footprint describes".to_owned());
    }
    let newer = scene.registered.products.values().filter(|product| scene.is_subject_name(&product.name));
    if let Some(version) =
        newer.filter_map(|product| product.version.as_ref()).find(|version| **version > package.version)
    {
        one.against.push(format!("it is older than version {version}, which is registered"));
    }
    if one.found_in == FoundIn::Cache {
        one.against.push("it is a copy that setup keeps for repairs, and may not be whole".to_owned());
    }
    Some(true)
}

const MADE_FOR_64: &str = "it is made for 64 bits, and this PC has 32";

/// A downloader is a small program; what it would fetch is not in it.
const SMALL: usize = 3 << 20;

fn executable(scene: &Scene<'_>, content: &[u8], one: &mut Candidate) -> Option<bool> {
    one.kind = PayloadKind::Program;
    let read = program::at_hand(content);
    let Version { company, product, description, version, .. } = program::parse(&read).unwrap_or_default();
    let signer = crate::content::signer::parse(&read);
    one.product = if product.is_empty() { description } else { product };
    one.publisher = company;
    one.order = version.parse::<Number>().ok();
    one.version = version;
    let packages = carried(content);
    let own = packages.iter().map(|one| &one.package).find(|package| scene.is_subject_name(&package.name));
    match (own, scene.is_subject_name(&one.product)) {
        (None, false) => return Some(false),
        (None, true) => one.favours.push("it says that it is the product's".to_owned()),
        (Some(package), _) => {
            one.product.clone_from(&package.name);
            one.version = package.version.to_string();
            one.order = Some(package.version.clone());
            one.favours.push(format!("it carries the package of {} {}", package.name, package.version));
        }
    }
    one.architecture = Headers::read(content).map_or("", |headers| headers.architecture()).to_owned();
    let words = switches(content);
    if !words.is_empty() {
        one.favours.push(format!("it knows the switches {}", words.join(", ")));
    }
    one.favours.extend(signer.map(|signer| format!("it is signed by {signer}, which is not verified here")));
    match Headers::read(content).map(|headers| headers.length()) {
        Some(length) if length > content.len() as u64 => {
            one.complete = false;
            one.against.push(format!("its headers say {length} bytes, and only {} are there", content.len()));
        }
        Some(length) if packages.is_empty() && content.len() < SMALL && (content.len() as u64) <= length + 4096 => {
            one.fits = false;
            one.against
                .push("it is small and carries nothing: a downloader, it seems, which needs the network".to_owned());
        }
        Some(_) => one.favours.push("it is as long as its headers say, and carries more".to_owned()),
        None => {
            one.complete = false;
            one.against.push("its headers cannot be read".to_owned());
        }
    }
    if one.architecture == "x64" && scene.survey.facts.program_files_x86.is_none() {
        one.fits = false;
        one.against.push(MADE_FOR_64.to_owned());
    }
    let launch = Launch::of(content);
    let told = launch.told("it").into_iter();
    if launch == Launch::Asks {
        one.against.extend(told)
    } else {
        one.favours.extend(told)
    }
    Some(true)
}

/// The best first: usable, whole, fewer words against it, newer.
pub fn rank(candidates: &mut [Candidate]) {
    candidates.sort_by(|a, b| {
        (b.usable, b.complete)
            .cmp(&(a.usable, a.complete))
            .then(b.order.cmp(&a.order))
            .then(a.against.len().cmp(&b.against.len()))
            .then(b.favours.len().cmp(&a.favours.len()))
            .then(a.path.cmp(&b.path))
    });
}
