use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::payloads::missing_libraries;

/// Libraries that the payload's programs need, and that neither the package nor this machine has.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let found = missing_libraries(situation.survey, package).into_iter().map(|((library, is_64), programs)| {
        let more = if programs.len() > 1 { format!(" and {} more", programs.len() - 1) } else { String::new() };
        blocker(
            "missing-library",
            Severity::MayFail,
            format!("{} needs {library}, which is not on this PC", package.name),
            None,
            vec![
                format!("{}{more} of the package asks for it", programs[0]),
                format!(
                    "it is neither in the package nor in the system's folders for programs of {} bits",
                    if is_64 { 64 } else { 32 }
                ),
            ],
            "Install what brings it before you run setup; `stubble payload` looks for it on this PC.".to_owned(),
        )
    });
    found.collect()
}
