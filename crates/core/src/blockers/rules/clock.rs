use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{FileTime, path};
use crate::survey::{EntryKind, Survey};

const DAY: u64 = 24 * 60 * 60 * 10_000_000;
/// So far apart are times of files because of time zones, at most.
const ZONES: u64 = DAY + DAY / 8;
/// A Windows that runs writes to its own files every day.
const LONG: u64 = 180 * DAY;
/// Folders whose files nobody but the running Windows writes: the registry, and the event logs.
const OWN: [&str; 2] = ["System32\\config", "System32\\winevt\\Logs"];

/// The clock is far off: signatures seem to be from the future or to have run out, and downloads are refused.
/// Other files than Windows' own tell nothing: archives and build tools give them any time.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let (Some(now), Some((time, file))) = (survey.facts.now, last_written(survey)) else { return Vec::new() };
    let text = match (time.0.saturating_sub(now.0), now.0.saturating_sub(time.0)) {
        (later, _) if later > ZONES => format!("Windows wrote {file} {} days later than the clock shows", later / DAY),
        (_, ago) if ago > LONG => {
            format!("Windows last wrote to its own files {} days ago, as the clock counts them ({file})", ago / DAY)
        }
        _ => return Vec::new(),
    };
    vec![blocker(
        "clock",
        Severity::MayFail,
        "The clock seems to be wrong".to_owned(),
        None,
        vec![text],
        "Set date and time; with a wrong one, signatures do not hold and downloads are refused.".to_owned(),
    )]
}

/// The second newest of Windows' own files: a single one can have any time.
fn last_written(survey: &Survey) -> Option<(FileTime, String)> {
    let folders = OWN.iter().filter_map(|folder| survey.files.find(&path::join(&survey.facts.windows, folder)));
    let files = folders.flat_map(|folder| survey.files.children(folder));
    let mut times: Vec<_> = files
        .filter(|at| survey.files.data(*at).kind == EntryKind::File)
        .map(|at| (survey.files.data(at).modified, at))
        .collect();
    times.sort_by_key(|(time, _)| std::cmp::Reverse(*time));
    times.get(1).map(|(time, at)| (*time, survey.files.path(*at)))
}
