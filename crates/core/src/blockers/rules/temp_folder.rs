use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::text::fold;
use crate::model::{Place, path};
use crate::survey::{EntryKind, User};

/// So many names of the form `tmpXXXX.tmp` there are: behind them the system's call for a new one fails, as
/// documented for GetTempFileName.
const ALL_NAMES: usize = 65_535;

/// The folder for temporary files is missing, is no folder, or has no names left.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let machine = format!("HKLM\\SYSTEM\\{}\\Control\\Session Manager\\Environment", survey.facts.control_set);
    let users = survey.facts.users.iter().map(|user| (format!("{}\\Environment", user.hive()), Some(user)));
    let mut found: Vec<Blocker> = Vec::new();
    for (key, user) in std::iter::once((machine, None)).chain(users) {
        let Some(at) = survey.registry.key(&key) else { continue };
        for name in ["TEMP", "TMP"] {
            let Some(text) = survey.registry.text(at, name) else { continue };
            let folder = path::plain(&text, &survey.environment(user));
            if let Some(evidence) = fault(situation, folder.trim_end_matches('\\')) {
                let whose = user.map_or("the system", |user: &User| &user.name);
                let title = format!("The folder for temporary files of {whose} cannot be used");
                if found.iter().any(|one| one.title == title) {
                    continue;
                }
                found.push(blocker(
                    "temp-folder",
                    Severity::MayFail,
                    title,
                    Some(Place::value(&key, name)),
                    vec![format!("{key} : {name} is {text}"), evidence],
                    "Make the folder, or empty it; setup unpacks itself there.".to_owned(),
                ));
            }
        }
    }
    found
}

fn fault(situation: &Situation<'_>, folder: &str) -> Option<String> {
    let survey = situation.survey;
    let drive = folder.get(..2)?;
    // Other drives were not looked at.
    if !drive.eq_ignore_ascii_case(survey.facts.windows.get(..2)?) {
        let is_there = survey.facts.other_drives.iter().any(|one| one.eq_ignore_ascii_case(drive));
        return (!is_there && drive.ends_with(':')).then(|| format!("there is no fixed drive {drive}"));
    }
    let Some(entry) = survey.entry(folder) else {
        // Where its parent was not read either, nothing is known.
        let above = path::parent(folder)?;
        return survey.exists(above).then(|| format!("{folder} is not there"));
    };
    if survey.files.data(entry).kind == EntryKind::File {
        return Some(format!("{folder} is a file"));
    }
    let names = survey.files.children(entry).filter(|child| fold(survey.files.name(*child)).ends_with(".TMP")).count();
    (names >= ALL_NAMES).then(|| format!("{folder} holds {names} files that end with .tmp; no more names are left"))
}
