//! `why`: explains one place.

use stubble_core::trace::why::explain;

use super::show;
use crate::args::Why;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Why, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    let explanation = explain(&work.scene(), &work.trace(), &args.place);
    show(&explanation, settings, ui, terminal::explained);
    Ok(if explanation.remnant.is_some() { Exit::Done } else { Exit::No })
}
