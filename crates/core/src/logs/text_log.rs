//! Any other text: what looks like an error, the first and the last of them.

use super::errors::code_in;
use super::{Outcome, Reader, Run, Said};

/// Words that make a line an error, in the languages in which setups commonly write their logs.
const WORDS: [&str; 10] =
    ["error", "fatal", "exception", "failed", "failure", "could not", "cannot ", "access denied", "aborted", "abort:"];
/// Lines that only look like one.
const HARMLESS: [&str; 6] = ["0 error", "no error", "error=0", "errors: 0", "without error", "error code 0"];

#[derive(Default)]
pub struct TextLog {
    run: Run,
    errors: Vec<Said>,
    seen: usize,
    last: Option<Said>,
    /// A line that announces an error, which stands in the next.
    announced: Option<u64>,
}

impl Reader for TextLog {
    fn line(&mut self, number: u64, text: &str) {
        if self.run.first_line == 0 {
            self.run.first_line = number;
        }
        if text.trim().is_empty() {
            return;
        }
        let is_told = self.announced.take().is_some();
        if is_error(text) && text.trim_end().ends_with(':') {
            self.announced = Some(number);
        } else if is_told || is_error(text) {
            self.seen += 1;
            let said = Said { line: number, text: text.trim().chars().take(400).collect() };
            if self.errors.len() < 4 {
                self.errors.push(said.clone());
            }
            self.last = Some(said);
        }
        let lower = text.to_ascii_lowercase();
        if let Some(at) = lower.find("exit code")
            && let Some(code) = code_in(number, &text[at..])
        {
            self.run.code = Some(code);
        }
        if let Some(path) = log_named(text)
            && self.run.other_logs.len() < 8
        {
            self.run.other_logs.push(Said { line: number, text: path.to_owned() });
        }
    }

    fn finish(mut self: Box<Self>, last: u64) -> Vec<Run> {
        let mut run = self.run;
        run.last_line = last;
        run.other_logs.dedup_by(|a, b| a.text == b.text);
        if self.errors.is_empty() {
            return vec![run];
        }
        run.outcome = Outcome::Failed;
        let first = self.errors.remove(0);
        run.codes.extend(code_in(first.line, &first.text));
        run.also = self.errors;
        if let Some(last) = self.last.filter(|last| last.line != first.line && !run.also.contains(last)) {
            run.codes.extend(code_in(last.line, &last.text));
            run.also.push(last);
        }
        run.codes.dedup_by(|a, b| a.code == b.code);
        run.message = Some(first);
        vec![run]
    }
}

fn is_error(text: &str) -> bool {
    let lower = text.to_ascii_lowercase();
    WORDS.iter().any(|word| lower.contains(word)) && !HARMLESS.iter().any(|word| lower.contains(word))
}

/// The path of another log in a line.
fn log_named(text: &str) -> Option<&str> {
    let at = text.find(":\\")?.checked_sub(1)?;
    let rest = text.get(at..)?;
    let end = rest.to_ascii_lowercase().find(".log")? + 4;
    rest.get(..end).filter(|path| !path.contains(['"', '\'', ';']))
}
