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
use documents::Documented;
pub use documents::schemas;
pub use exit::Exit;
pub use ui::Ui;

/// Runs the program with these arguments.
pub fn run(args: impl IntoIterator<Item = OsString>, ui: &mut Ui) -> Exit {
    let args: Vec<OsString> = args.into_iter().collect();
    let json = args.iter().any(|arg| arg == "--json");
    let args = match Args::try_parse_from(args) {
        Ok(args) => args,
        Err(refusal) => {
            let exit = if refusal.use_stderr() { Exit::Usage } else { Exit::Done };
            ui.show_clap(&refusal);
            if json && exit == Exit::Usage {
                let message = refusal.kind().as_str().unwrap_or("the call is not understood").to_owned();
                let advice = "`stubble --help` shows what there is.".to_owned();
                let failure = documents::Failure { message, details: Vec::new(), advice, exit: exit as u8 };
                ui.print(&failure.to_json());
            }
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
            let explained = errors::explain(&error);
            ui.tell(&views::terminal::failure(&explained));
            if json {
                let errors::Explained { message, details, advice, exit } = explained;
                ui.print(&documents::Failure { message, details, advice, exit: exit as u8 }.to_json());
                return exit;
            }
            explained.exit
        }
    }
}
