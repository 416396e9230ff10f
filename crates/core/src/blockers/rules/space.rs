use std::collections::BTreeMap;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path;
use crate::packages::layout::Layout;

/// Setup unpacks at least that much for itself, wherever its folder for temporary files is.
const FOR_ITSELF: u64 = 16 << 20;

/// A disk has less room than what setup puts on it.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let facts = &survey.facts;
    let own = facts.windows.get(..2).unwrap_or("C:").to_uppercase();
    let mut needs: BTreeMap<String, (u64, &str)> = BTreeMap::new();
    if let Some((_, package)) = situation.known.payload {
        let layout = Layout::on(package, survey, situation.registered);
        for file in &package.files {
            let drive = layout.file(&file.id).and_then(|path| path.get(..2)).map_or(own.clone(), str::to_uppercase);
            needs.entry(drive).or_insert((0, "the package's files")).0 += file.size;
        }
    }
    let machine = format!("HKLM\\SYSTEM\\{}\\Control\\Session Manager\\Environment", facts.control_set);
    let temp = survey.registry.key(&machine).and_then(|key| survey.registry.text(key, "TEMP"));
    let temp = temp.map(|text| path::plain(&text, &survey.environment(None)));
    let temp = temp.and_then(|folder| folder.get(..2).map(str::to_uppercase)).filter(|drive| *drive != own);
    if let Some(drive) = temp {
        needs.entry(drive).or_insert((0, "setup's temporary files")).0 += FOR_ITSELF;
    }
    let free = |drive: &str| match drive == own {
        true => facts.free_bytes,
        false => facts.free_elsewhere.get(drive).copied(),
    };
    let mut found = Vec::new();
    for (drive, (need, what)) in needs {
        let Some(free) = free(&drive).filter(|free| *free < need) else { continue };
        let title =
            if drive == own { "The system disk is too full".to_owned() } else { format!("Disk {drive} is too full") };
        found.push(blocker(
            "space",
            Severity::WillFail,
            title,
            None,
            vec![format!("{free} bytes are free, {what} need {need}")],
            "Free some space first.".to_owned(),
        ));
    }
    found
}
