//! The program `stubble`: arguments, commands, views.
//!
//! [`run`] is the whole program without the process around it, so that it can be tested.

mod args;
mod asking;
mod commands;
mod deciding;
mod documents;
mod errors;
mod exit;
mod finding;
mod machines;
mod narrow;
mod ui;
mod views;
mod work;

use std::ffi::OsString;

use clap::Parser;

pub use args::Args;
pub use documents::schemas;
pub use exit::Exit;
pub use ui::Ui;

/// Runs the program with these arguments.
pub fn run(args: impl IntoIterator<Item = OsString>, ui: &mut Ui) -> Exit {
    let args = match Args::try_parse_from(args) {
        Ok(args) => args,
        Err(told) => {
            let exit = if told.use_stderr() { Exit::Usage } else { Exit::Done };
            ui.show_clap(&told);
            return exit;
        }
    };
    match commands::run(args, ui) {
        Ok(exit) => match ui.take_failure() {
            None => exit,
            Some(source) => {
                let error = errors::CliError::Io { path: "standard output".into(), source };
                ui.tell(&views::terminal::failure(&errors::explain(&error)));
                Exit::Unreadable
            }
        },
        Err(error) => {
            let told = errors::explain(&error);
            ui.tell(&views::terminal::failure(&told));
            told.exit
        }
    }
}
