//! What a log names, and what each of it is on this machine now.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Outcome, Run, SetBy};
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind, path};
use crate::packages::Registered;
use crate::subject::{Anchor, AnchorKind, Subject, is_predecessor};
use crate::survey::{EntryKind, Survey, search};
use crate::trace::Trace;

/// So many things are followed.
const MOST: usize = 12;

/// Something that a log names, with what it is now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Followed {
    /// The line that names it.
    pub line: u64,
    /// What is named, as the log writes it.
    pub named: String,
    /// Where that is on this machine.
    pub place: Option<Place>,
    /// What it is there now, a sentence each.
    pub now: Vec<String>,
    /// The remnant that it is, by its short name.
    pub remnant: Option<String>,
}

/// Follows what the lines about a failure name: identifiers, files and folders, keys, services.
pub fn follow(run: &Run, survey: &Survey, registered: &Registered, trace: &Trace) -> Vec<Followed> {
    let mut found: Vec<Followed> = Vec::new();
    let texts = texts(run);
    for (line, text) in &texts {
        let named = codes_in(text)
            .map(|code| code_now(*line, code, survey, registered, trace))
            .chain(services_in(text).map(|name| service_now(*line, &name, survey, trace)))
            .chain(keys_in(text).map(|key| key_now(*line, &key, survey, trace)))
            .chain(paths_in(text).map(|path| path_now(*line, &path, survey, trace)));
        for one in named.collect::<Vec<_>>() {
            if found.len() < MOST && !found.iter().any(|known| fold(&known.named) == fold(&one.named)) {
                found.push(one);
            }
        }
    }
    found
}

/// Identifiers and paths that a sentence names.
pub fn named_in(text: &str) -> Vec<String> {
    codes_in(text).map(|code| code.to_string()).chain(paths_in(text)).collect()
}

/// Lines in which a cause can be named, the nearest first.
fn texts(run: &Run) -> Vec<(u64, String)> {
    let said = run.message.iter().chain(&run.also).map(|said| (said.line, said.text.clone()));
    let decided = run.decided.iter().map(|one| (one.line, one.value.clone()));
    said.chain(decided).collect()
}

fn codes_in(text: &str) -> impl Iterator<Item = Guid> + '_ {
    text.match_indices('{').filter_map(|(at, _)| text.get(at..at + 38)?.parse().ok())
}

/// Names in quotes behind the word for a service: `Service 'Fennelgate Scale Bridge' (FennelgateScaleBridge)`.
fn services_in(text: &str) -> impl Iterator<Item = String> + '_ {
    text.match_indices("ervice '").filter_map(|(at, word)| {
        let rest = &text[at + word.len()..];
        let (display, rest) = rest.split_once('\'')?;
        let short = rest.trim_start().strip_prefix('(').and_then(|rest| rest.split_once(')')).map(|(name, _)| name);
        Some(short.unwrap_or(display).to_owned())
    })
}

const ROOTS: [(&str, &str); 3] =
    [("HKEY_LOCAL_MACHINE", "HKLM"), ("HKEY_USERS", "HKU"), ("HKEY_CLASSES_ROOT", "HKLM\\SOFTWARE\\Classes")];

/// Keys by their long names, up to where the sentence goes on.
fn keys_in(text: &str) -> impl Iterator<Item = String> + '_ {
    ROOTS.iter().flat_map(move |(long, short)| {
        text.match_indices(long).filter_map(move |(at, _)| {
            // The log writes the 32-bit view with a mark behind the root.
            let rest = text[at + long.len()..].trim_start_matches("32").trim_start_matches("64");
            let rest = rest.strip_prefix('\\')?;
            let end = rest.find(['.', '\'', '"', ',', '[']).unwrap_or(rest.len());
            Some(format!("{short}\\{}", rest[..end].trim_end_matches(['\\', ' '])))
        })
    })
}

/// Paths with a drive, up to where the sentence goes on.
fn paths_in(text: &str) -> impl Iterator<Item = String> + '_ {
    text.match_indices(":\\").filter_map(|(at, _)| {
        let start = at.checked_sub(1)?;
        let drive = text.get(start..at)?;
        if !drive.bytes().all(|letter| letter.is_ascii_alphabetic()) {
            return None;
        }
        let rest = text.get(start..)?;
        let quote = text[..start].chars().next_back().filter(|before| matches!(before, '\'' | '"'));
        let end = match quote {
            Some(quote) => rest.find(quote).unwrap_or(rest.len()),
            None => {
                let stops = [". ", "; ", ", ", " is ", " System error", " (", "\t", "|"];
                stops.iter().filter_map(|stop| rest.find(stop)).min().unwrap_or(rest.len())
            }
        };
        let path = rest[..end].trim_end_matches(['.', '\\', ' ', ':']);
        (path.len() > 3 && path::strict(path).is_ok()).then(|| path.to_owned())
    })
}

fn remnant_of(trace: &Trace, place: &Place) -> Option<String> {
    let covers = trace
        .remnants
        .iter()
        .find(|remnant| place.is_within(&remnant.place) || remnant.parts.iter().any(|part| place.is_within(part)));
    covers.map(|remnant| remnant.id.clone())
}

fn code_now(line: u64, code: Guid, survey: &Survey, registered: &Registered, trace: &Trace) -> Followed {
    let mut now = Vec::new();
    let mut place = None;
    let own = registered.products.get(&code).map(|product| (code, product));
    let related: Vec<_> = registered.related(code).collect();
    for (product_code, product) in own.iter().copied().chain(related.iter().copied()) {
        let name = match (&product.version, product.name.as_str()) {
            (_, "") => format!("a product without a name, {product_code}"),
            (Some(version), name) => format!("{name} {version}"),
            (None, name) => name.to_owned(),
        };
        now.push(match product_code == code {
            true => format!("it is registered as {name}"),
            false => format!("it is an upgrade code that leads to {name}"),
        });
        let cache = product.cache_is_there(survey);
        let folder = product.location.as_deref().map(|folder| survey.exists(folder.trim_end_matches('\\')));
        match (product.entry.is_some(), cache) {
            (false, Some(false)) => now.push(
                "no list of programs shows it and its cached package is gone: it is registered, and cannot be uninstalled"
                    .to_owned(),
            ),
            (false, _) => now.push("no list of programs shows it".to_owned()),
            (true, Some(false)) => now.push("its cached package is gone, so that it can be neither repaired nor uninstalled".to_owned()),
            (true, _) => now.push("the list of programs shows it".to_owned()),
        }
        if folder == Some(false) {
            now.push("its folder is gone".to_owned());
        }
        place.get_or_insert_with(|| Place::new(PlaceKind::Product, product_code.to_string()));
    }
    if place.is_none() {
        let stands = search::find(&survey.registry, &[code]);
        now.push(match stands.as_slice() {
            [] => "it stands nowhere in the registry now, in no spelling".to_owned(),
            [one] => format!("no product has it; it stands in {}", one.place),
            [one, more @ ..] => format!("no product has it; it stands in {} and {} more places", one.place, more.len()),
        });
    }
    let remnant = place.as_ref().and_then(|place| remnant_of(trace, place));
    Followed { line, named: code.to_string(), place, now, remnant }
}

fn service_now(line: u64, name: &str, survey: &Survey, trace: &Trace) -> Followed {
    let registry = &survey.registry;
    let is_it = |key: &u32| {
        fold(registry.name(*key)) == fold(name)
            || registry.text(*key, "DisplayName").is_some_and(|display| fold(&display) == fold(name))
    };
    let key = registry.subkeys(&survey.facts.services_key()).into_iter().find(is_it);
    let Some(key) = key else {
        let now = vec!["there is no service of that name now".to_owned()];
        return Followed { line, named: format!("service {name}"), place: None, now, remnant: None };
    };
    let place = Place::new(PlaceKind::Service, registry.name(key));
    let mut now = Vec::new();
    let command = registry.text(key, "ImagePath").unwrap_or_default();
    let exists = |path: &str| survey.has_file(path);
    match path::program_of(&command, &survey.environment(None), &exists) {
        Some(program) if survey.has_file(&program) => now.push(format!("it starts {program}, which is there")),
        Some(program) => now.push(format!("it starts {program}, which is gone")),
        None => now.push(format!("it starts `{command}`")),
    }
    if registry.value(key, "Start").and_then(|value| value.dword()) == Some(4) {
        now.push("it is disabled".to_owned());
    }
    if registry.value(key, "DeleteFlag").is_some() {
        now.push("it is marked for deletion, and goes at the next start".to_owned());
    }
    let state = survey.running.services.iter().find(|state| fold(&state.name) == fold(registry.name(key)));
    if let Some(state) = state {
        now.push(if state.running { "it runs now" } else { "it does not run now" }.to_owned());
    }
    let remnant = remnant_of(trace, &place);
    Followed { line, named: format!("service {name}"), place: Some(place), now, remnant }
}

fn key_now(line: u64, key: &str, survey: &Survey, trace: &Trace) -> Followed {
    let place = Place::key(key);
    let now = match survey.registry.key(key) {
        Some(at) => {
            let values = survey.registry.values(at).count();
            format!("the key is there, with {values} values")
        }
        None => "the key is not there now".to_owned(),
    };
    let there = survey.registry.key(key).is_some();
    let remnant = remnant_of(trace, &place);
    Followed { line, named: key.to_owned(), place: there.then_some(place), now: vec![now], remnant }
}

fn path_now(line: u64, named: &str, survey: &Survey, trace: &Trace) -> Followed {
    let Some(entry) = survey.entry(named) else {
        let mut now = vec!["it is not there now".to_owned()];
        if let Some(above) = path::parent(named).filter(|above| above.len() > 3 && !survey.exists(above)) {
            now.push(format!("neither is {above}"));
        }
        return Followed { line, named: named.to_owned(), place: None, now, remnant: None };
    };
    let path = survey.files.path(entry);
    let data = survey.files.data(entry);
    let (place, mut now) = match data.kind {
        EntryKind::Folder => (Place::folder(&path), vec!["the folder is there".to_owned()]),
        EntryKind::Link => (Place::file(&path), vec!["it is a link to somewhere else".to_owned()]),
        EntryKind::File => (Place::file(&path), vec![format!("it is there, {} bytes", data.size)]),
    };
    for process in &survey.running.processes {
        if process.holds.iter().any(|held| fold(held) == fold(&path)) || fold(&process.image) == fold(&path) {
            now.push(format!("{} has it open now", path::leaf(&process.image)));
        }
    }
    let remnant = remnant_of(trace, &place);
    Followed { line, named: named.to_owned(), place: Some(place), now, remnant }
}

/// What the log of the subject's own setup adds to what is known of it: codes, earlier products that stopped
/// it, and the files that it wrote. Nothing where the log is of another product.
pub fn leads_of(run: &Run, from: &str, subject: &Subject, survey: &Survey, registered: &Registered) -> Vec<Anchor> {
    let whose = &run.whose;
    let own_code = |kind, code: Option<Guid>| code.is_some_and(|code| subject.codes(kind).contains(&code));
    let is_own = fold(&whose.name) == fold(&subject.name)
        || own_code(AnchorKind::ProductCode, whose.product_code)
        || own_code(AnchorKind::UpgradeCode, whose.upgrade_code);
    if !is_own {
        return Vec::new();
    }
    let anchor = |kind, value: String, line: u64| Anchor { kind, value, from: format!("{from}, line {line}") };
    let mut found = Vec::new();
    for (kind, code) in [(AnchorKind::ProductCode, whose.product_code), (AnchorKind::UpgradeCode, whose.upgrade_code)] {
        found.extend(code.map(|code| Anchor { kind, value: code.to_string(), from: from.to_owned() }));
    }
    if run.outcome == Outcome::Failed {
        let related = run.decided.iter().filter(|one| one.by == SetBy::RelatedProducts);
        for one in related {
            for code in codes_in(&one.value).filter(|code| Some(*code) != whose.product_code) {
                let product = registered.products.get(&code);
                if product.is_some_and(|product| !is_predecessor(survey, false, &subject.publisher, product)) {
                    found.push(anchor(AnchorKind::Detected, code.to_string(), one.line));
                    continue;
                }
                found.push(anchor(AnchorKind::EarlierProduct, code.to_string(), one.line));
                let Some(product) = product else { continue };
                if !product.name.is_empty() && fold(&product.name) != fold(&subject.name) {
                    found.push(anchor(AnchorKind::EarlierName, product.name.clone(), one.line));
                }
                let codes = product.upgrade_codes.iter().filter(|code| Some(**code) != whose.upgrade_code);
                found.extend(codes.map(|code| anchor(AnchorKind::EarlierUpgradeCode, code.to_string(), one.line)));
            }
        }
    }
    let file = |path: &String| Anchor { kind: AnchorKind::LoggedFile, value: path.clone(), from: from.to_owned() };
    found.extend(whose.files.iter().map(file));
    found.retain(|one| !subject.anchors.iter().any(|known| known.kind == one.kind && known.value == one.value));
    found
}
