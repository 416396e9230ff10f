use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;

const PROFILES: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\ProfileList";

/// A user's folder that was moved to a drive that is gone, and a profile that Windows could not load.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let facts = &survey.facts;
    let system = facts.windows.get(..2).unwrap_or("C:");
    let mut found = Vec::new();
    for user in &facts.users {
        for (name, folder) in &user.folders {
            let Some(drive) = folder.get(..2).filter(|drive| drive.ends_with(':')) else { continue };
            let is_there = std::iter::once(system)
                .chain(facts.other_drives.iter().map(String::as_str))
                .any(|one| one.eq_ignore_ascii_case(drive));
            if is_there {
                continue;
            }
            let key =
                format!("{}\\Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders", user.hive());
            found.push(blocker(
                "user-folders",
                Severity::MayFail,
                format!("A folder of {} leads to drive {drive}, which is not there", user.name),
                Some(Place::value(key, name)),
                vec![
                    format!("{name} is {folder}"),
                    "setup ends with error 1327 or 1606 where it needs that folder".to_owned(),
                ],
                format!("Connect the drive, or set that folder of {} back to the profile.", user.name),
            ));
        }
    }
    for key in survey.registry.subkeys(PROFILES) {
        let name = survey.registry.name(key);
        let Some(sid) = name.strip_suffix(".bak") else { continue };
        let who = facts.users.iter().find(|user| user.sid.eq_ignore_ascii_case(sid)).map_or(sid, |user| &user.name);
        found.push(blocker(
            "user-folders",
            Severity::MayFail,
            format!("Windows could not load the profile of {who}"),
            Some(Place::key(survey.registry.path(key))),
            vec![format!("{PROFILES} holds {name}: the user works in a temporary profile")],
            "Mend the profile first: what is installed for that user is lost when he signs off.".to_owned(),
        ));
    }
    found
}
