//! The device installer's log (`setupapi.dev.log`). Its layout is publicly documented ("SetupAPI Text Logs"):
//! sections between `>>>` and `<<<`, with `!!!` before an error and `!` before a warning.

use super::errors::code_in;
use super::{Code, Outcome, Reader, Run, Said};

/// So many sections are kept, the last ones.
const MOST: usize = 200;

/// Whether a line opens that log or a section of it.
pub fn is_own(line: &str) -> bool {
    line.starts_with("[Device Install Log]") || line.starts_with(">>>  [") || line.starts_with("[BeginLog]")
}

#[derive(Default)]
pub struct DeviceLog {
    runs: Vec<Run>,
    run: Option<Run>,
}

impl Reader for DeviceLog {
    fn line(&mut self, number: u64, text: &str) {
        if let Some(rest) = text.strip_prefix(">>>  [") {
            self.close(number - 1, false);
            let title = rest.trim_end_matches(']');
            let mut run = Run { first_line: number, ..Run::default() };
            run.whose.name = title.to_owned();
            self.run = Some(run);
            return;
        }
        let Some(run) = &mut self.run else { return };
        if let Some(rest) = text.strip_prefix(">>>  Section start ") {
            run.began = rest.to_owned();
        } else if let Some(rest) = text.strip_prefix("!!!") {
            let said = Said { line: number, text: plain(rest) };
            run.codes.extend(code_in(number, &said.text).filter(|_| run.codes.len() < 16));
            match &run.message {
                None => run.message = Some(said),
                Some(_) if run.also.len() < 6 => run.also.push(said),
                Some(_) => {}
            }
        } else if let Some(rest) = text.strip_prefix("<<<  [Exit status: ") {
            let status = rest.trim_end_matches(']');
            run.outcome = if status.starts_with("SUCCESS") { Outcome::Finished } else { Outcome::Failed };
            run.code = code_in(number, status).map(|code| Code { line: number, ..code });
            self.close(number, true);
        } else if text.trim_start().starts_with("{") && run.outcome == Outcome::Unknown {
            // An operation of the section, kept until the first error tells where it was.
            if run.message.is_none() {
                run.failed = vec![Said { line: number, text: plain(text).trim_matches(['{', '}']).to_owned() }];
            }
        }
    }

    fn finish(mut self: Box<Self>, last: u64) -> Vec<Run> {
        self.close(last, false);
        self.runs
    }
}

impl DeviceLog {
    fn close(&mut self, last: u64, is_whole: bool) {
        let Some(mut run) = self.run.take() else { return };
        run.last_line = last;
        if !is_whole {
            run.outcome = Outcome::Stopped;
        }
        if run.message.is_none() {
            run.failed.clear();
        }
        run.codes.dedup_by(|a, b| a.code == b.code);
        if self.runs.len() == MOST {
            self.runs.remove(0);
        }
        self.runs.push(run);
    }
}

/// What a line says, without the marks and the time in front.
fn plain(rest: &str) -> String {
    let rest = rest.trim_start();
    // `dvi:      text`: a part of the installer, then spaces.
    match rest.split_once(':') {
        Some((part, text)) if part.len() <= 4 && !part.contains(' ') => text.trim().to_owned(),
        _ => rest.to_owned(),
    }
}
