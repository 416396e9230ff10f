//! The package installer's logs, from basic to verbose.
//!
//! The layout of its lines is publicly documented ("Windows Installer Logging", and the messages of its
//! actions): service and client lines carry a prefix `MSI (s) (2C:70) [06:40:00:123]: `, basic logs none.

use super::errors::{code_in, message_number, system_error};
use super::{Begun, Code, Decided, Outcome, Reader, Run, Said, SetBy, meanings};

/// So many properties, messages and files are kept; more decide nothing.
const MOST: usize = 400;
const MOST_FILES: usize = 50_000;

/// Whether a line is the package installer's own.
pub fn is_own(line: &str) -> bool {
    line.starts_with("MSI (") && line[4..].contains(") (")
        || line.starts_with("=== Verbose logging started")
        || line.starts_with("=== Logging started")
        || line.starts_with("Action start ") && line.trim_end().ends_with('.')
        || line.starts_with("MSI (c)")
}

#[derive(Default)]
pub struct PackageLog {
    runs: Vec<Run>,
    run: Open,
}

/// The install that is being read.
#[derive(Default)]
struct Open {
    run: Run,
    /// Actions that are running, the innermost last.
    actions: Vec<String>,
    /// The step that the service is carrying out: `Executing op: ActionStart(Name=…`.
    operation: Option<Said>,
    /// What was set so far.
    set: Vec<Decided>,
    /// Error messages so far.
    errors: Vec<Said>,
    command_line: String,
    last: Option<Begun>,
    last_time: String,
    is_begun: bool,
    /// A part is over; the next action begins another one.
    is_over: bool,
    /// Whether the end that a whole log has was seen.
    has_end: bool,
}

impl Reader for PackageLog {
    fn line(&mut self, number: u64, text: &str) {
        let (time, body) = split(text);
        if body.starts_with("=== ") && body.contains("ogging started") {
            self.close(number.saturating_sub(1));
            self.run.run.began = began(body);
            self.run.is_begun = true;
        }
        if !self.run.is_begun && !text.is_empty() {
            self.run.is_begun = true;
        }
        // One log can hold an install after the other without a new heading.
        if self.run.is_over && body.starts_with("Action start ") && body.ends_with(": INSTALL.") {
            self.close(number.saturating_sub(1));
            self.run.is_begun = true;
        }
        if self.run.run.first_line == 0 {
            self.run.run.first_line = number;
        }
        if !time.is_empty() {
            self.run.last_time.clear();
            self.run.last_time.push_str(time);
        }
        self.run.take(number, time, body);
    }

    fn finish(mut self: Box<Self>, last: u64) -> Vec<Run> {
        self.close(last);
        self.runs
    }
}

impl PackageLog {
    fn close(&mut self, last: u64) {
        let open = std::mem::take(&mut self.run);
        if open.is_begun && open.run.first_line > 0 {
            self.runs.push(open.finish(last));
        }
    }
}

/// The time in a line's prefix, and what is behind it.
fn split(text: &str) -> (&str, &str) {
    let Some(rest) = text.strip_prefix("MSI (") else { return ("", text) };
    let Some((prefix, body)) = rest.split_once("]: ").or_else(|| rest.split_once("]:")) else { return ("", text) };
    let time = prefix.rsplit('[').next().unwrap_or_default();
    (time, body)
}

/// Day and time in the heading.
fn began(heading: &str) -> String {
    let rest = between(heading, "started: ", "  Build type").unwrap_or_default();
    rest.split("  Calling").next().unwrap_or(rest).trim_end_matches([' ', '=']).to_owned()
}

fn between<'t>(text: &'t str, before: &str, after: &str) -> Option<&'t str> {
    let (_, rest) = text.split_once(before)?;
    Some(rest.split_once(after).map_or(rest, |(found, _)| found))
}

impl Open {
    fn take(&mut self, number: u64, time: &str, body: &str) {
        let first = body.as_bytes().first().copied().unwrap_or_default();
        match first {
            b'A' => self.action(number, body),
            b'P' => self.property_or_product(number, body),
            b'D' | b'E' | b'I' | b'W' | b'C' | b'F' | b'R' | b'M' | b'T' | b'=' | b'*' => {
                self.other(number, time, body);
            }
            _ => {}
        }
        if self.run.outcome == Outcome::Unknown && first != b'P' && message_number(body).is_some() {
            self.error(number, body);
        }
    }

    /// `Action start 6:40:00: INSTALL.`, `Action ended 6:40:00: INSTALL. Return value 3.`
    fn action(&mut self, number: u64, body: &str) {
        if let Some(rest) = body.strip_prefix("Action start ") {
            let (at, name) = rest.split_once(": ").unwrap_or(("", rest));
            let name = name.trim_end_matches('.').to_owned();
            self.last = Some(Begun { line: number, action: name.clone(), at: at.to_owned(), last_at: String::new() });
            if self.actions.len() < MOST {
                self.actions.push(name);
            }
        } else if let Some(rest) = body.strip_prefix("Action ended ") {
            let Some((head, value)) = rest.split_once(". Return value ") else { return };
            let name = head.split_once(": ").map_or(head, |(_, name)| name);
            self.actions.pop();
            if name == "INSTALL" {
                self.is_over = true;
            }
            match value.trim_end_matches('.') {
                "3" => self.failed(number, name),
                "2" if self.run.failed.is_empty() => {
                    self.run.outcome = Outcome::Cancelled;
                    self.failed(number, name);
                }
                _ => {}
            }
        }
    }

    fn failed(&mut self, number: u64, name: &str) {
        if self.run.failed.is_empty()
            && let Some(operation) = self.operation.take().filter(|_| name == "InstallFinalize")
        {
            // What the service was carrying out is what failed; this action only waited for it.
            self.run.failed.push(operation);
        }
        if self.run.failed.len() < 12 {
            self.run.failed.push(Said { line: number, text: name.to_owned() });
        }
    }

    fn property_or_product(&mut self, number: u64, body: &str) {
        if let Some(rest) = body.strip_prefix("PROPERTY CHANGE: ") {
            if !self.run.failed.is_empty() || self.set.len() >= MOST {
                return;
            }
            let words = ["Adding ", "Modifying "];
            let Some(rest) = words.iter().find_map(|word| rest.strip_prefix(word)) else { return };
            let Some((name, value)) = rest.split_once(" property. Its ") else { return };
            let value = value.rsplit_once(" value: '").map_or(value, |(_, value)| value);
            let value = value.strip_prefix("value is '").unwrap_or(value).trim_end_matches(['.', '\'']);
            let by = set_by(self.actions.last().map_or("", String::as_str));
            self.set.push(Decided { line: number, name: name.to_owned(), value: value.to_owned(), by });
        } else if let Some((_, property)) = body.split_once("): ").filter(|_| body.starts_with("Property(")) {
            let Some((name, value)) = property.split_once(" = ") else { return };
            let whose = &mut self.run.whose;
            match name {
                "ProductName" => whose.name = value.to_owned(),
                "ProductVersion" => whose.version = value.to_owned(),
                "ProductCode" => whose.product_code = value.parse().ok(),
                "UpgradeCode" => whose.upgrade_code = value.parse().ok(),
                _ => {}
            }
        } else if let Some((name, message)) = body.strip_prefix("Product: ").and_then(|rest| rest.split_once(" -- ")) {
            if self.run.whose.name.is_empty() {
                self.run.whose.name = name.to_owned();
            }
            match message {
                text if is_closing(text, "success") => self.has_end = true,
                text if is_closing(text, "failed") => {
                    self.has_end = true;
                    self.run.outcome = Outcome::Failed;
                }
                text => self.error(number, text),
            }
        }
    }

    fn other(&mut self, number: u64, time: &str, body: &str) {
        if let Some(rest) = body.strip_prefix("MainEngineThread is returning ") {
            self.ends_with(number, rest.trim());
        } else if let Some(rest) = body.strip_prefix("Doing action: ") {
            self.last =
                Some(Begun { line: number, action: rest.to_owned(), at: time.to_owned(), last_at: String::new() });
        } else if let Some(rest) = body.strip_prefix("Executing op: ActionStart(Name=") {
            let name = rest.split(',').next().unwrap_or(rest).to_owned();
            self.last = Some(Begun { line: number, action: name.clone(), at: time.to_owned(), last_at: String::new() });
            if self.run.failed.is_empty() {
                self.operation = Some(Said { line: number, text: name });
            }
        } else if let Some(rest) = body.strip_prefix("CustomAction ") {
            if rest.contains(" returned actual error code ") && !rest.contains("translated to success") {
                let name = rest.split(' ').next().unwrap_or_default();
                if let Some((_, code)) = rest.split_once("error code ")
                    && self.run.codes.len() < 8
                {
                    let code: String = code.chars().take_while(char::is_ascii_digit).collect();
                    let meaning = code.parse().ok().and_then(meanings::system).map(str::to_owned);
                    self.run.codes.push(Code { line: number, code, meaning });
                }
                self.operation = Some(Said { line: number, text: name.to_owned() });
            }
        } else if body.starts_with("File: ") || body.starts_with("InstallFiles: ") {
            self.file(body);
        } else if let Some(rest) = body.strip_prefix("Command Line: ") {
            if self.command_line.is_empty() {
                self.command_line = rest.to_owned();
            }
        } else if let Some(rest) = body.strip_prefix("Running product from package '") {
            self.run.whose.package = rest.trim_end_matches(['\'', '.']).to_owned();
        } else if let Some(rest) = body.strip_prefix("Original package ==> ") {
            self.run.whose.package = rest.to_owned();
        } else if is_telling(body) {
            self.also(number, body);
        } else if body.starts_with("=== ") && body.contains("ogging stopped") {
            self.has_end = true;
            self.is_over = true;
        } else if let Some(status) = between(body, "Installation success or error status: ", ".") {
            self.ends_with(number, status.trim());
        }
    }

    fn ends_with(&mut self, number: u64, code: &str) {
        let Ok(code) = code.parse::<u32>() else { return };
        self.has_end = true;
        if self.run.outcome != Outcome::Cancelled {
            self.run.outcome = match code {
                1602 => Outcome::Cancelled,
                code if meanings::is_success(code) => Outcome::Finished,
                _ => Outcome::Failed,
            };
        }
        let meaning = meanings::meaning(code).or_else(|| meanings::system(code)).map(str::to_owned);
        self.run.code = Some(Code { line: number, code: code.to_string(), meaning });
    }

    fn error(&mut self, number: u64, text: &str) {
        if self.errors.len() < MOST && !self.errors.iter().any(|said| said.text == text) {
            self.errors.push(Said { line: number, text: text.to_owned() });
        }
    }

    fn also(&mut self, number: u64, text: &str) {
        if self.run.also.len() < 8 {
            self.run.also.push(Said { line: number, text: text.to_owned() });
        }
    }

    fn file(&mut self, body: &str) {
        let path = if let Some(rest) = body.strip_prefix("File: ") {
            let mut parts = rest.split(';');
            let path = parts.next().unwrap_or_default();
            if parts.next().is_some_and(|what| what.trim() == "To be installed") { path } else { return }
        } else {
            let rest = &body["InstallFiles: ".len()..];
            rest.rsplit_once(", ").map_or("", |(path, _)| path)
        };
        if path.contains(":\\") && self.run.whose.files.len() < MOST_FILES {
            self.run.whose.files.push(path.to_owned());
        }
    }

    fn finish(mut self, last: u64) -> Run {
        let mut run = self.run;
        run.last_line = last;
        run.whose.files.sort();
        run.whose.files.dedup();
        if run.outcome == Outcome::Unknown {
            run.outcome = match (run.failed.is_empty(), self.has_end) {
                (false, _) => Outcome::Failed,
                (true, true) => Outcome::Finished,
                (true, false) => Outcome::Stopped,
            };
        }
        if run.outcome == Outcome::Stopped {
            run.last_action = self.last.map(|last| Begun { last_at: self.last_time.clone(), ..last });
        }
        if matches!(run.outcome, Outcome::Failed | Outcome::Cancelled) {
            let failed_at = run.failed.first().map_or(u64::MAX, |said| said.line.max(1));
            let until = run.failed.iter().map(|said| said.line).find(|line| *line >= failed_at).unwrap_or(failed_at);
            // The last error before the first failure is what made it fail.
            let at = self.errors.iter().rposition(|said| said.line <= until).or(match self.errors.is_empty() {
                true => None,
                false => Some(0),
            });
            if let Some(at) = at {
                let said = self.errors.remove(at);
                run.means = message_number(&said.text).and_then(meanings::message).map(str::to_owned);
                run.codes.extend(system_error(said.line, &said.text));
                run.message = Some(said);
            }
            self.errors.truncate(6);
            run.also.append(&mut self.errors);
            run.also.sort_by_key(|said| said.line);
            run.decided = deciding(&run, self.set, &self.command_line);
        }
        if let Some(code) = &run.code
            && code.meaning.is_none()
        {
            run.codes.extend(code_in(code.line, &code.code));
        }
        run
    }
}

/// Remarks that are no errors and yet may be the reason.
fn is_telling(body: &str) -> bool {
    body.starts_with("Info 1603")
        || body.contains("is being held in use")
        || body.starts_with("Warning: Local cached package ")
        || body.starts_with("Machine policy value 'DisableMsi' is 2")
}

/// Sentences with which a log closes, whatever language their middle is in.
fn is_closing(text: &str, how: &str) -> bool {
    let text = text.trim_end_matches('.');
    match how {
        "success" => text.ends_with("completed successfully"),
        _ => text.ends_with("failed") && (text.starts_with("Installation") || text.starts_with("Configuration")),
    }
}

/// Who set a property, by the action that was running.
fn set_by(action: &str) -> SetBy {
    match action {
        "FindRelatedProducts" | "MigrateFeatureStates" => SetBy::RelatedProducts,
        "AppSearch" | "CCPSearch" | "RMCCPSearch" => SetBy::Search,
        other => SetBy::Action(other.to_owned()),
    }
}

/// Of what was set, what can have decided: results of searches before a condition or a message, and what the
/// message itself names.
fn deciding(run: &Run, set: Vec<Decided>, command_line: &str) -> Vec<Decided> {
    let by_condition = run.failed.first().is_some_and(|said| said.text == "LaunchConditions");
    let said = run.message.as_ref().map_or("", |said| said.text.as_str());
    let decides = |one: &Decided| {
        let is_named = one.value.len() > 3 && said.contains(&one.value) || said.contains(&one.name);
        let is_search = match &one.by {
            SetBy::RelatedProducts | SetBy::Search => true,
            SetBy::Action(name) => name.is_empty() && one.value.starts_with('{'),
            SetBy::CommandLine | SetBy::Condition => false,
        };
        is_named || by_condition && is_search
    };
    let by_hand = |one: &Decided| command_line.contains(&format!("{}=", one.name));
    let found = set.into_iter().filter(decides);
    let told = found.map(|one| if by_hand(&one) { Decided { by: SetBy::CommandLine, ..one } } else { one });
    told.take(8).collect()
}
