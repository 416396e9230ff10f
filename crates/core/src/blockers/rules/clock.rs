use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::FileTime;
use crate::survey::EntryKind;

const DAY: u64 = 24 * 60 * 60 * 10_000_000;
/// So far apart are times of files because of time zones, at most.
const ZONES: u64 = DAY + DAY / 8;
/// A Windows that runs writes to its disk every day.
const LONG: u64 = 180 * DAY;
/// One file can have any time; so many do not by chance.
const SOME: usize = 3;

/// The clock is far off: signatures seem to be from the future or to have run out, and downloads are refused.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let Some(now) = survey.facts.now else { return Vec::new() };
    let files = survey.files.all().filter(|at| survey.files.data(*at).kind == EntryKind::File);
    let mut times: Vec<(FileTime, _)> = files.map(|at| (survey.files.data(at).modified, at)).collect();
    times.sort_by_key(|(time, _)| std::cmp::Reverse(*time));
    let later = times.iter().take_while(|(time, _)| time.0 > now.0.saturating_add(ZONES)).count();
    let newest = times.get(later).map_or(0, |(time, _)| time.0);
    let text = match (later, newest) {
        (later, _) if later >= SOME => {
            let (last, at) = times[0];
            let days = (last.0 - now.0) / DAY;
            let file = survey.files.path(at);
            format!("{later} files are from later days than the clock shows; {file} by {days} days")
        }
        (_, newest) if newest > 0 && now.0.saturating_sub(newest) > LONG => {
            let days = (now.0 - newest) / DAY;
            format!("no file on the disk was changed within the last {days} days, as the clock counts them")
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
