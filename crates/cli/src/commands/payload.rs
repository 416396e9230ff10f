//! `payload`: looks for installers on the machine, and chooses one.

use stubble_core::confirm::seal::sha256;
use stubble_core::packages::Package;
use stubble_core::payloads::{Candidate, needed};
use stubble_core::survey::Gap;

use super::show;
use crate::args::Payload;
use crate::documents::{PayloadChosen, PayloadsFound};
use crate::errors::CliError;
use crate::finding::{find_payloads, named};
use crate::views::terminal;
use crate::work::{Installer, Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Payload, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    if let Some(path) = &args.choose {
        let file = Installer::read(work.machine.observe(), path)?;
        let found = sha256(&file.content);
        if let Some(wanted) = args.sha256.as_ref().filter(|wanted| !wanted.trim().eq_ignore_ascii_case(&found)) {
            return Err(CliError::OtherContent { path: path.clone(), wanted: wanted.clone(), found, copy: None });
        }
        let copy = work.case.choose(path, &file.content)?;
        let done = PayloadChosen { payload: path.clone(), product: file.what, sha256: found, copy };
        show(&done, settings, ui, terminal::payload_chosen);
        return Ok(Exit::Done);
    }
    let footprint = work.footprint()?;
    let machine = work.machine.observe();
    let files = args.among.iter().map(|folder| named(machine, &work.survey, folder)).collect::<Result<Vec<_>, _>>()?;
    let search = find_payloads(machine, &work.scene(), footprint.as_ref(), &files.concat());
    let mut gaps = work.survey.gaps.clone();
    let package = meant(&work, &search.candidates, &mut gaps)?;
    let first = needed(&work.survey, &work.registered, package.as_ref(), footprint.as_ref(), &search.others);
    let found = PayloadsFound {
        computer: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.name.clone(),
        chosen: work.case.about.payload.clone(),
        candidates: search.candidates,
        first,
        not_looked_into: search.more,
        could_not_look: gaps,
    };
    show(&found, settings, ui, terminal::payloads_found);
    Ok(if found.candidates.iter().any(|one| one.usable) { Exit::Done } else { Exit::No })
}

/// The package that would be run: the case's, or else the best that was found.
fn meant(work: &Work, found: &[Candidate], gaps: &mut Vec<Gap>) -> Result<Option<Package>, CliError> {
    if let Some(file) = work.payload_with_imports(gaps)? {
        return Ok(Some(file.package));
    }
    let Some(best) = found.iter().find(|one| one.usable) else { return Ok(None) };
    // What a program without a package needs stands in no table.
    let Some((mut file, _)) = Installer::read(work.machine.observe(), &best.path)?.into_package() else {
        return Ok(None);
    };
    work.with_imports(&mut file, gaps)?;
    Ok(Some(file.package))
}
