//! `footprint`: what an installed product consists of, as a file that a team shares.

use std::path::Path;

use stubble_core::footprint::{Footprint, compare, merge, read, record};
use stubble_core::packages::Package;
use stubble_ledger::Case;

use super::compare::{machine_of, side};
use super::show;
use crate::args::{Footprint as Args, FootprintCompare, FootprintRead, FootprintRecord, To};
use crate::documents::PrintCompared;
use crate::errors::CliError;
use crate::machines::{full, machine};
use crate::views::terminal;
use crate::work::{Settings, read_footprint, read_package};
use crate::{Exit, Ui};

pub fn run(args: &Args, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    match args {
        Args::Read(args) => give(&from_package(args, settings)?, &args.to, settings, ui),
        Args::Record(args) => recorded(args, settings, ui),
        Args::Merge(args) => {
            let prints: Vec<Footprint> =
                args.files.iter().map(|file| read_footprint(file)).collect::<Result<_, _>>()?;
            give(&merge(&prints)?, &args.to, settings, ui)
        }
        Args::Show { file } => {
            show(&read_footprint(file)?, settings, ui, terminal::footprint);
            Ok(Exit::Done)
        }
        Args::Compare(args) => compared(args, settings, ui),
    }
}

/// Writes a new footprint to its file, or prints it.
fn give(print: &Footprint, to: &To, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    if let Some(path) = &to.out {
        if path.exists() {
            return Err(CliError::Exists(path.clone()));
        }
        std::fs::write(path, print.to_toml()).map_err(|source| CliError::Io { path: path.clone(), source })?;
        show(print, settings, ui, |print, width| terminal::footprint_written(print, path, width));
    } else {
        show(print, settings, ui, |print, _| print.to_toml());
    }
    Ok(Exit::Done)
}

fn from_package(args: &FootprintRead, settings: &Settings) -> Result<Footprint, CliError> {
    let wrong = |source| CliError::Payload { path: args.package.clone(), source };
    let path = Path::new(&args.package);
    let (package, bytes) = if path.is_file() || !Case::is_in(&settings.case) {
        let bytes = std::fs::read(path).map_err(|source| CliError::Io { path: path.to_owned(), source })?;
        (Package::read(&bytes).map_err(wrong)?, bytes)
    } else {
        let machine = machine(&Case::open(&settings.case)?.about.on, &settings.case)?;
        let (file, bytes) = read_package(machine.observe(), &args.package)?;
        (file.package, bytes)
    };
    let contents = package.contents(&bytes).map_err(wrong)?;
    Ok(read(&package, &contents))
}

fn recorded(args: &FootprintRecord, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let (before, after) = (side(&args.before, settings)?, side(&args.after, settings)?);
    let Some(mut made) = record(&before, &after, args.name.as_deref()) else {
        return Err(CliError::NothingCame(args.name.clone()));
    };
    // Contents can be read only where they still are.
    if let Some(machine) = machine_of(&args.after, settings)? {
        made.footprint.add_digests(&after.facts, &|paths| machine.observe().digests(paths));
    }
    for gap in &after.gaps {
        ui.tell(&format!("note: could not look at {}: {}\n", gap.what, gap.why));
    }
    if made.left_out > 0 {
        ui.tell(&format!("note: {} left out, which Windows changes by itself\n", terminal::places(made.left_out)));
    }
    give(&made.footprint, &args.to, settings, ui)
}

fn compared(args: &FootprintCompare, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let print = read_footprint(&args.file)?;
    let on = match &args.on {
        Some(on) => full(on)?,
        None => Case::open(&settings.case)?.about.on.clone(),
    };
    let machine = machine(&on, &settings.case)?;
    let survey = machine.observe().survey()?;
    let done = PrintCompared {
        footprint: args.file.display().to_string(),
        computer: survey.facts.computer.clone(),
        compared: compare(&print, &survey, &|paths| machine.observe().digests(paths)),
        could_not_look: survey.gaps.clone(),
    };
    show(&done, settings, ui, terminal::footprint_compared);
    let is_whole = done.compared.installed.findings.is_empty();
    Ok(if is_whole && done.could_not_look.is_empty() { Exit::Done } else { Exit::No })
}
