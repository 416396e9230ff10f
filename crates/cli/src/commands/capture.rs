//! `capture`: a portable picture of a machine.

use std::path::PathBuf;

use stubble_ledger::Case;

use super::show;
use crate::args::Capture;
use crate::documents::Captured;
use crate::errors::CliError;
use crate::machines::{keep_picture, machine};
use crate::views::terminal;
use crate::work::Settings;
use crate::{Exit, Ui};

pub fn run(args: &Capture, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let on = match &args.on {
        Some(on) => on.clone(),
        None => Case::open(&settings.case)?.about.on.clone(),
    };
    let survey = machine(&on, &settings.case)?.observe().survey()?;
    let usual = || PathBuf::from(format!("{}.capture", file_name(&survey.facts.computer)));
    let file = args.file.clone().unwrap_or_else(usual);
    if file.exists() {
        return Err(CliError::Exists(file));
    }
    let bytes = keep_picture(&survey, &file)?;
    let captured = Captured {
        computer: survey.facts.computer.clone(),
        file: file.display().to_string(),
        bytes,
        files: survey.files.len(),
        keys: survey.registry.keys().len(),
        values: survey.registry.value_count(),
        could_not_look: survey.gaps,
    };
    show(&captured, settings, ui, terminal::captured);
    Ok(Exit::Done)
}

/// A computer's name as a file's: names come from a machine that may be hostile.
fn file_name(computer: &str) -> String {
    let plain: String = computer.chars().filter(|letter| letter.is_alphanumeric() || *letter == '-').collect();
    if plain.is_empty() { "machine".to_owned() } else { plain }
}
