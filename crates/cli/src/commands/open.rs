//! `open`: starts a case.

use std::path::{Path, PathBuf};

use stubble_core::footprint::{self, Footprint};
use stubble_core::logs::{Whose, diagnose};
use stubble_core::model::Guid;
use stubble_core::model::text::fold;
use stubble_core::packages::Registered;
use stubble_core::subject::{Anchor, AnchorKind, Identified, PackageFile, Subject, identify, pointed_at, widen};
use stubble_core::survey::Survey;
use stubble_core::trace::Scene;
use stubble_ledger::{About, Case};
use stubble_machine::Observe;

use super::show;
use crate::args::{Open, Scope};
use crate::documents::{Ambiguous, Opened};
use crate::errors::CliError;
use crate::finding::find_payloads;
use crate::machines::{full, kept_installer, machine};
use crate::views::terminal;
use crate::work::{FOOTPRINT, Installer, Settings, downloaded_packages, read_footprint, read_package};
use crate::{Exit, Ui};

pub fn run(args: &Open, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let on = full(&args.on)?;
    let kept = args.payload.as_deref().map(|payload| kept_installer(payload, &on)).transpose()?;
    let args = &Open { payload: kept, ..args.clone() };
    let machine = machine(&on, &settings.case)?;
    let survey = machine.observe().survey()?;
    let registered = Registered::read(&survey);
    let mut packages = match &args.payload {
        // One without a package can be run all the same.
        Some(path) => {
            Installer::read(machine.observe(), path)?.into_package().map(|(file, _)| file).into_iter().collect()
        }
        None => downloaded_packages(machine.observe(), &survey),
    };
    let print = args.footprint.as_deref().map(read_footprint).transpose()?;
    let log = args.log.as_deref().map(read_log).transpose()?;
    let Wanted { name, how } = wanted(args, &survey, &registered, &packages, log.as_ref(), print.as_ref())?;
    let subject = match identify(&survey, &registered, &packages, &name) {
        Identified::One(subject) => *subject,
        Identified::Several(candidates) => {
            let Ambiguous { name, candidates } = listed(Ambiguous { name, candidates }, settings, ui);
            return Err(CliError::Several { name, candidates });
        }
        Identified::Publisher(candidates) => {
            let Ambiguous { name, candidates: products } = listed(Ambiguous { name, candidates }, settings, ui);
            return Err(CliError::APublisher { name, products });
        }
        Identified::Unknown(known) => match &print {
            // Nothing on the machine names it; the footprint still tells what to look for.
            Some(print) if fold(&print.name) == fold(&name) => footprint::subject(print, Vec::new()),
            _ => return Err(CliError::NoProduct { name, known }),
        },
    };
    let is_own = |file: &PackageFile| subject.all(AnchorKind::Payload).any(|path| path == file.path);
    let looks = args.payload.is_none() && !packages.iter().any(is_own);
    let hidden = looks.then(|| hidden_package(machine.observe(), &survey, &registered, &subject)).flatten();
    let subject = match hidden {
        Some(file) => {
            packages.push(file);
            // Its tables tell more of who is meant, such as whom it replaces.
            match identify(&survey, &registered, &packages, &subject.name) {
                Identified::One(again) => *again,
                _ => subject,
            }
        }
        None => subject,
    };
    let (mut subject, others) = match args.scope {
        Scope::Product => (subject, Vec::new()),
        Scope::Publisher => widen(&survey, &registered, &packages, subject),
    };
    if let (Some(print), Some(path)) = (&print, &args.footprint) {
        let from = format!("the footprint {}", path.display());
        let facts = footprint::anchors(print, &from, &registered, &survey);
        let is_new =
            |one: &Anchor| !subject.anchors.iter().any(|known| known.kind == one.kind && known.value == one.value);
        let new: Vec<Anchor> = facts.into_iter().filter(is_new).collect();
        subject.anchors.extend(new);
    }
    if let Some((from, leads)) = log {
        subject.anchors.extend(logged(&from, leads));
    }
    let payload = payload(&subject, &packages).or_else(|| args.payload.clone().filter(|_| packages.is_empty()));
    let mut about = About::new(on.clone(), survey.facts.computer.clone(), subject.clone(), payload.clone());
    about.machine = survey.facts.identity.clone();
    about.vault = args.vault.as_deref().map(vault).transpose()?;
    let vault = about.vault.as_ref().map(|vault| vault.display().to_string());
    let case = Case::create(&settings.case, about)?;
    if let Some(print) = &print {
        case.write(FOOTPRINT, print.to_toml().as_bytes())?;
    }
    let facts = &survey.facts;
    let opened = Opened {
        on,
        computer: facts.computer.clone(),
        system: format!("{} (version {}, build {}, {})", facts.product, facts.version, facts.build, facts.architecture),
        case: case.folder().display().to_string(),
        subject,
        how,
        others,
        payload,
        vault,
    };
    show(&opened, settings, ui, terminal::opened);
    Ok(Exit::Done)
}

/// Prints the products that could be meant, as a document if one is asked for; on a terminal the error names them.
fn listed(ambiguous: Ambiguous, settings: &Settings, ui: &mut Ui) -> Ambiguous {
    if settings.json {
        show(&ambiguous, settings, ui, |_, _| String::new());
    }
    ambiguous
}

/// The best installer that lies somewhere else than in the downloads, such as where a downloader keeps what it
/// has fetched.
fn hidden_package(
    machine: &dyn Observe,
    survey: &Survey,
    registered: &Registered,
    subject: &Subject,
) -> Option<PackageFile> {
    let search = find_payloads(machine, &Scene::new(survey, registered, subject), None, &[]);
    let best = search.candidates.iter().find(|one| one.usable && one.against.is_empty())?;
    read_package(machine, &best.path).ok().map(|(file, _)| file)
}

/// The name that is looked for, and how it was found where what was given is no name.
struct Wanted {
    name: String,
    how: Option<String>,
}

/// What a setup program says that it is a part of, without the words for its being a setup.
fn by_program(payload: &str, survey: &Survey) -> Option<(String, String)> {
    let told = &survey.version_of(payload)?.product;
    let words: Vec<&str> = told.split_whitespace().collect();
    let is_setup = |word: &&str| ["setup", "installer", "install"].contains(&word.to_lowercase().as_str());
    let own = words.len() - words.iter().rev().take_while(|word| is_setup(word)).count();
    let name = words[..own].join(" ");
    (!name.is_empty()).then(|| (name, format!("{payload} says that it is its setup")))
}

/// A name stays a name; anything else is followed to the product that it leads to.
fn wanted(
    args: &Open,
    survey: &Survey,
    registered: &Registered,
    packages: &[PackageFile],
    log: Option<&(String, Whose)>,
    print: Option<&Footprint>,
) -> Result<Wanted, CliError> {
    let name = args.name.clone();
    if name.is_empty() {
        let told = log.filter(|(_, whose)| !whose.name.is_empty());
        let told = told.map(|(from, whose)| (whose.name.clone(), format!("{from} is of its setup")));
        let package = packages.first().filter(|_| args.payload.is_some());
        let by_print = print.map(|print| (print.name.clone(), "its footprint says so".to_owned()));
        let told = told.or(by_print);
        let told =
            told.or_else(|| package.map(|file| (file.package.name.clone(), format!("{} installs it", file.path))));
        let told = told.or_else(|| by_program(args.payload.as_deref()?, survey));
        let Some((name, how)) = told else {
            let given = log.map(|(from, _)| from.clone()).or(args.payload.clone());
            return Err(CliError::NoName(given.unwrap_or_default()));
        };
        return Ok(Wanted { name, how: Some(how) });
    }
    let is_name = !name.contains(":\\") && name.parse::<Guid>().is_err();
    if is_name && !matches!(identify(survey, registered, packages, &name), Identified::Unknown(_)) {
        return Ok(Wanted { name, how: None });
    }
    Ok(match pointed_at(survey, registered, &name) {
        Some(found) => Wanted { how: Some(format!("{name}: {}", found.how)), name: found.name },
        None => Wanted { name, how: None },
    })
}

fn read_log(path: &Path) -> Result<(String, Whose), CliError> {
    let file = std::fs::File::open(path).map_err(|source| CliError::Io { path: path.to_owned(), source })?;
    let log = diagnose(file).map_err(|source| CliError::Log { path: path.to_owned(), source })?;
    let whose = log.main().map(|run| run.whose.clone()).unwrap_or_default();
    Ok((format!("the log {}", path.display()), whose))
}

/// What a log adds to what is known of the subject.
fn logged(from: &str, leads: Whose) -> Vec<Anchor> {
    let anchor = |kind, value: String| Anchor { kind, value, from: from.to_owned() };
    let product = leads.product_code.map(|code| anchor(AnchorKind::ProductCode, code.to_string()));
    let upgrade = leads.upgrade_code.map(|code| anchor(AnchorKind::UpgradeCode, code.to_string()));
    let files = leads.files.into_iter().map(|file| anchor(AnchorKind::LoggedFile, file));
    product.into_iter().chain(upgrade).chain(files).collect()
}

/// The folder that was chosen for the vault, made where it is not there.
fn vault(chosen: &Path) -> Result<PathBuf, CliError> {
    let failed = |source| CliError::Io { path: chosen.to_owned(), source };
    std::fs::create_dir_all(chosen).map_err(failed)?;
    std::path::absolute(chosen).map_err(failed)
}

/// The newest of the subject's own packages.
fn payload(subject: &Subject, packages: &[PackageFile]) -> Option<String> {
    let own = |file: &&PackageFile| subject.all(AnchorKind::Payload).any(|path| path == file.path);
    packages.iter().filter(own).max_by(|a, b| a.package.version.cmp(&b.package.version)).map(|file| file.path.clone())
}
