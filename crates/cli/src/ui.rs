//! Where the program writes and asks.

use std::io::{self, BufRead, IsTerminal, Write};

use anstream::AutoStream;
use clap::CommandFactory;

use crate::errors::CliError;

/// Standard output for data, standard error for all else, and somebody to ask.
pub struct Ui {
    out: Box<dyn Write>,
    err: Box<dyn Write>,
    input: Box<dyn BufRead>,
    /// Whether a person can be asked.
    pub can_ask: bool,
    /// Whether what would be data is none for now.
    is_aside: bool,
    /// Why data could not be written, the first time.
    failed: Option<io::Error>,
    /// Columns to write in; `None` writes lines as long as they are.
    pub width: Option<usize>,
}

impl Ui {
    /// The process's own streams. Colour goes only to a terminal that has not been told otherwise.
    pub fn stdio() -> Self {
        let told = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
        let seen = || terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0));
        Self {
            out: Box::new(AutoStream::auto(io::stdout())),
            err: Box::new(AutoStream::auto(io::stderr())),
            input: Box::new(io::stdin().lock()),
            can_ask: io::stdin().is_terminal(),
            is_aside: false,
            failed: None,
            width: told.or_else(seen),
        }
    }

    /// Writes data. A reader that has gone away is no error.
    pub fn print(&mut self, text: &str) {
        if self.is_aside {
            return self.tell(text);
        }
        let written = self.out.write_all(text.as_bytes()).and_then(|()| self.out.flush());
        if let Err(error) = written
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.failed.get_or_insert(error);
        }
    }

    /// Runs work and prints its data as messages, to standard error.
    pub fn aside<T>(&mut self, work: impl FnOnce(&mut Self) -> T) -> T {
        self.is_aside = true;
        let done = work(self);
        self.is_aside = false;
        done
    }

    /// Why data could not be written, if they could not: a full disk, say.
    pub fn take_failure(&mut self) -> Option<io::Error> {
        self.failed.take()
    }

    /// Writes what is not data.
    pub fn tell(&mut self, text: &str) {
        let _ = self.err.write_all(text.as_bytes()).and_then(|()| self.err.flush());
    }

    /// Asks a question; anything but yes is no.
    pub fn ask(&mut self, question: &str) -> Result<bool, CliError> {
        let answer = self.answer(&format!("{question} [y/N] "))?;
        Ok(matches!(answer.to_lowercase().as_str(), "y" | "yes"))
    }

    /// Asks a question, and returns what was typed.
    pub fn answer(&mut self, question: &str) -> Result<String, CliError> {
        if !self.can_ask {
            return Err(CliError::CannotAsk);
        }
        self.tell(question);
        let mut answer = String::new();
        match self.input.read_line(&mut answer) {
            Ok(read) if read > 0 => Ok(answer.trim().to_owned()),
            // The end of the input is no answer.
            _ => Err(CliError::CannotAsk),
        }
    }

    /// Tells what the program can do.
    pub(crate) fn show_help(&mut self) {
        let help = crate::Args::command().render_help().ansi().to_string();
        self.tell(&help);
    }

    pub(crate) fn show_clap(&mut self, told: &clap::Error) {
        let text = told.render().ansi().to_string();
        if told.use_stderr() { self.tell(&text) } else { self.print(&text) }
    }
}
