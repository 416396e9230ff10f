//! Logs of setups that run several packages in order. A line is `[1A2C:0F44][2026-11-20T06:40:12]e000: text`:
//! process and thread, time, a letter for how grave it is, a number.

use super::errors::code_in;
use super::{Begun, Code, Decided, Outcome, Reader, Run, Said, SetBy, meanings};

/// Time, grave letter and text of a line; `None` where it is none of these.
pub fn parts(line: &str) -> Option<(&str, char, &str)> {
    let rest = line.strip_prefix('[')?;
    let (ids, rest) = rest.split_once("][")?;
    let (process, thread) = ids.split_once(':')?;
    if ![process, thread].iter().all(|id| id.len() >= 2 && id.bytes().all(|digit| digit.is_ascii_hexdigit())) {
        return None;
    }
    let (time, rest) = rest.split_once(']')?;
    let level = rest.chars().next().filter(|level| matches!(level, 'i' | 'w' | 'e'))?;
    let number = rest.get(1..4)?;
    let text = rest.get(4..)?.strip_prefix(':')?;
    number.bytes().all(|digit| digit.is_ascii_digit()).then_some((time, level, text.trim_start()))
}

#[derive(Default)]
pub struct BundleLog {
    run: Run,
    errors: Vec<Said>,
    last: Option<Begun>,
    time: String,
    is_over: bool,
}

impl Reader for BundleLog {
    fn line(&mut self, number: u64, text: &str) {
        let Some((time, level, text)) = parts(text) else { return };
        if self.run.first_line == 0 {
            self.run.first_line = number;
            self.run.began = time.to_owned();
        }
        self.time = time.to_owned();
        if level == 'e' && self.errors.len() < 40 {
            self.errors.push(Said { line: number, text: text.to_owned() });
        }
        if let Some((value, name)) = set_to(text) {
            self.variable(number, name, value);
        } else if text.starts_with("Condition '") && text.ends_with("evaluates to false.") && self.run.decided.len() < 8
        {
            let condition = text["Condition '".len()..].split('\'').next().unwrap_or_default();
            self.run.decided.push(Decided {
                line: number,
                name: condition.to_owned(),
                value: "false".to_owned(),
                by: SetBy::Condition,
            });
        } else if let Some(rest) = text.strip_prefix("Applying execute package: ") {
            let action = rest.split(',').next().unwrap_or(rest).to_owned();
            self.last = Some(Begun { line: number, action, at: time.to_owned(), last_at: String::new() });
        } else if let Some(rest) = text.strip_prefix("Applied execute package: ") {
            let (name, result) = rest.split_once(", result: ").unwrap_or((rest, ""));
            if self.run.failed.is_empty() && !result.starts_with("0x0,") && result.starts_with("0x") {
                self.run.failed.push(Said { line: number, text: name.to_owned() });
                self.run.codes.extend(code_in(number, result.split(',').next().unwrap_or(result)));
            }
        } else if let Some(rest) = text.strip_prefix("Exit code: ") {
            let digits = rest.split(',').next().unwrap_or(rest).trim_start_matches("0x");
            if let Ok(code) = u32::from_str_radix(digits, 16) {
                self.ends(number, code);
            }
        }
    }

    fn finish(mut self: Box<Self>, last: u64) -> Vec<Run> {
        let mut run = self.run;
        run.last_line = last;
        if !self.is_over {
            run.outcome = if run.failed.is_empty() { Outcome::Stopped } else { Outcome::Failed };
        }
        if run.outcome == Outcome::Stopped {
            run.last_action = self.last.map(|last| Begun { last_at: self.time.clone(), ..last });
        }
        if matches!(run.outcome, Outcome::Failed | Outcome::Stopped) && !self.errors.is_empty() {
            let first = self.errors.remove(0);
            run.codes.extend(code_in(first.line, &first.text));
            run.message = Some(first);
            self.errors.truncate(6);
            run.also = self.errors;
        }
        if run.outcome == Outcome::Finished {
            run.decided.clear();
        }
        run.codes.dedup_by(|a, b| a.code == b.code);
        vec![run]
    }
}

impl BundleLog {
    fn ends(&mut self, line: u64, code: u32) {
        self.is_over = true;
        let plain = if code >> 16 == 0x8007 { code & 0xFFFF } else { code };
        self.run.outcome = match plain {
            1602 => Outcome::Cancelled,
            plain if meanings::is_success(plain) => Outcome::Finished,
            _ => Outcome::Failed,
        };
        let meaning = meanings::meaning(plain).or_else(|| meanings::system(code)).map(str::to_owned);
        self.run.code = Some(Code { line, code: plain.to_string(), meaning });
    }

    fn variable(&mut self, line: u64, name: &str, value: &str) {
        if value.to_ascii_lowercase().ends_with(".log") && self.run.other_logs.len() < 16 {
            self.run.other_logs.push(Said { line, text: value.to_owned() });
        } else if name.ends_with("BundleName") {
            self.run.whose.name = value.to_owned();
        } else if name.ends_with("BundleVersion") {
            self.run.whose.version = value.to_owned();
        } else if name.ends_with("BundleOriginalSource") {
            self.run.whose.package = value.to_owned();
        }
    }
}

/// Value and name in `Setting string variable 'NAME' to value 'VALUE'`.
fn set_to(text: &str) -> Option<(&str, &str)> {
    let rest = text.strip_prefix("Setting ")?;
    let (_, rest) = rest.split_once("variable '")?;
    let (name, rest) = rest.split_once("' to value '")?;
    Some((rest.trim_end_matches('\''), name))
}
