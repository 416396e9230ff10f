use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};

/// Groups in which filters of the file system load that scan or guard, as Microsoft publishes them.
const GUARDS: [(&str, &str); 4] = [
    ("FSFILTER ANTI-VIRUS", "scans files"),
    ("FSFILTER ACTIVITY MONITOR", "watches files"),
    ("FSFILTER SECURITY ENHANCER", "guards files"),
    ("FSFILTER ENCRYPTION", "encrypts files"),
];
/// Filters that come with Windows.
const WINDOWS_OWN: [&str; 8] = ["WDFILTER", "FILECRYPT", "FILEINFO", "LUAFV", "STORQOSFLT", "WCIFS", "UCPD", "EFS"];

/// Products that watch the file system, which can hold up a setup: named, and never switched off by us.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let registry = &situation.survey.registry;
    let mut found = Vec::new();
    for key in registry.subkeys(&situation.survey.facts.services_key()) {
        let Some(group) = registry.text(key, "Group").map(|group| fold(&group)) else { continue };
        let name = registry.name(key);
        let Some((_, does)) = GUARDS.iter().find(|(start, _)| group == *start) else { continue };
        let is_off = registry.value(key, "Start").and_then(|value| value.dword()) == Some(4);
        if is_off || WINDOWS_OWN.contains(&fold(name).as_str()) {
            continue;
        }
        let display = registry.text(key, "DisplayName").unwrap_or_else(|| name.to_owned());
        found.push(blocker(
            "filters",
            Severity::WorthKnowing,
            format!("{display} {does} while setup runs"),
            Some(Place::new(PlaceKind::Service, name)),
            vec![format!("its driver {name} loads in the group {group}")],
            "If setup hangs or is denied a file, ask who administers it for an exception; leave it on otherwise."
                .to_owned(),
        ));
    }
    found
}
