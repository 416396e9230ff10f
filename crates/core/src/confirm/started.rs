//! Does it start, and stay?

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Verdict;
use crate::logs::meanings;
use crate::model::path::leaf;

/// What was seen of a program that was started, until it was ended again.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trial {
    /// Seconds that it was watched.
    pub seconds: u64,
    /// The code with which it ended by itself; none where it had to be ended.
    pub exit: Option<u32>,
    /// Titles of its windows that people see; none where nobody can look for windows.
    pub windows: Option<Vec<String>>,
    /// Whether one of its windows does not answer.
    pub hangs: bool,
    /// Other programs of its folder that were started since, and run when it has ended.
    pub others: Vec<String>,
}

/// What is to be said of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Started {
    /// The program.
    pub program: String,
    /// Whether it starts and stays.
    pub stays: Verdict,
    /// What was seen, in one sentence.
    pub seen: String,
}

/// Judges what was seen.
pub fn judge(program: &str, trial: &Trial) -> Started {
    let name = leaf(program);
    let seconds = trial.seconds;
    let (stays, seen) = match (trial.exit, trial.others.as_slice()) {
        (None, _) if trial.hangs => (Verdict::No, format!("{name} runs, and its window does not answer")),
        (None, _) => {
            let window = match trial.windows.as_deref() {
                None => "windows were not looked at".to_owned(),
                Some([]) => "it shows no window".to_owned(),
                Some([title, ..]) => format!("its window is called \"{title}\""),
            };
            (Verdict::Yes, format!("{name} ran for {seconds} seconds, until it was ended; {window}"))
        }
        (Some(0), [other, ..]) => (Verdict::Yes, format!("{name} ended, and {} of the same folder runs", leaf(other))),
        (Some(0), []) => {
            (Verdict::Unknown, format!("{name} ended by itself within {seconds} seconds, without an error"))
        }
        (Some(code), _) => (Verdict::No, format!("{name} ended with {}", told(code))),
    };
    Started { program: program.to_owned(), stays, seen }
}

fn told(code: u32) -> String {
    let number = if code > 0xFFFF { format!("0x{code:08X}") } else { code.to_string() };
    match meanings::system(code) {
        Some(meaning) => format!("{number}: {meaning}"),
        None => format!("code {number}, which only its maker can explain"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(trial: &Trial) -> (Verdict, String) {
        let started = judge("C:\\Program Files\\Fennelgate\\desk.exe", trial);
        (started.stays, started.seen)
    }

    #[test]
    fn what_runs_until_it_is_ended_stays() {
        let trial = Trial { seconds: 10, windows: Some(vec!["Scales".into()]), ..Trial::default() };
        let told = "desk.exe ran for 10 seconds, until it was ended; its window is called \"Scales\"";
        assert_eq!(seen(&trial), (Verdict::Yes, told.to_owned()));
        let unseen = Trial { windows: None, ..trial.clone() };
        assert!(seen(&unseen).1.ends_with("windows were not looked at"));
        assert!(seen(&Trial { windows: Some(Vec::new()), ..unseen }).1.ends_with("it shows no window"));
        assert_eq!(seen(&Trial { hangs: true, ..trial }).0, Verdict::No);
    }

    #[test]
    fn what_ends_by_itself_is_told_by_its_code() {
        let ended = |code| Trial { seconds: 10, exit: Some(code), ..Trial::default() };
        assert_eq!(seen(&ended(0)).0, Verdict::Unknown);
        let (stays, told) = seen(&ended(0xC000_0135));
        assert_eq!(stays, Verdict::No);
        assert!(told.contains("0xC0000135") && told.contains("library"), "{told}");
        assert_eq!(
            seen(&ended(77)),
            (Verdict::No, "desk.exe ended with code 77, which only its maker can explain".into())
        );
        let starter = Trial { others: vec!["C:\\x\\tray.exe".into()], ..ended(0) };
        assert_eq!(seen(&starter), (Verdict::Yes, "desk.exe ended, and tray.exe of the same folder runs".into()));
    }
}
