//! `open`: starts a case.

use std::path::{Path, PathBuf};

use stubble_core::packages::Registered;
use stubble_core::subject::{AnchorKind, Identified, PackageFile, Subject, identify};
use stubble_ledger::{About, Case};

use super::show;
use crate::args::Open;
use crate::documents::{Ambiguous, Opened};
use crate::errors::CliError;
use crate::machines::{full, machine};
use crate::views::terminal;
use crate::work::{Settings, downloaded_packages, read_package};
use crate::{Exit, Ui};

pub fn run(args: &Open, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let on = full(&args.on)?;
    let machine = machine(&on)?;
    let survey = machine.observe().survey()?;
    let registered = Registered::read(&survey);
    let packages = match &args.payload {
        Some(path) => vec![read_package(machine.observe(), path)?.0],
        None => downloaded_packages(machine.observe(), &survey),
    };
    let subject = match identify(&survey, &registered, &packages, &args.name) {
        Identified::One(subject) => *subject,
        Identified::Several(candidates) => {
            let ambiguous = Ambiguous { name: args.name.clone(), candidates };
            if settings.json {
                show(&ambiguous, settings, ui, |_, _| String::new());
            }
            return Err(CliError::Several { name: ambiguous.name, candidates: ambiguous.candidates });
        }
        Identified::Nobody(known) => return Err(CliError::Nobody { name: args.name.clone(), known }),
    };
    let payload = payload(&subject, &packages);
    let mut about = About::new(on.clone(), survey.facts.computer.clone(), subject.clone(), payload.clone());
    about.vault = args.vault.as_deref().map(vault).transpose()?;
    let vault = about.vault.as_ref().map(|vault| vault.display().to_string());
    let case = Case::create(&settings.case, about)?;
    let facts = &survey.facts;
    let opened = Opened {
        on,
        computer: facts.computer.clone(),
        system: format!("{} (version {}, build {}, {})", facts.product, facts.version, facts.build, facts.architecture),
        case: case.folder().display().to_string(),
        subject,
        payload,
        vault,
    };
    show(&opened, settings, ui, terminal::opened);
    Ok(Exit::Done)
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
