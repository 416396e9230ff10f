//! From one product to all of its publisher's.

use super::identify::{PackageFile, complete, gather};
use super::names::{publisher_words, together};
use super::{Scope, Subject};
use crate::packages::Registered;
use crate::survey::Survey;

/// Widens a subject to every product of its publisher. Tells the names of the others, which would go with
/// it.
pub fn widen(
    survey: &Survey,
    registered: &Registered,
    packages: &[PackageFile],
    subject: Subject,
) -> (Subject, Vec<String>) {
    let publisher = together(&publisher_words(&subject.publisher));
    let known = gather(survey, registered, packages);
    let is_sibling = |name: &str, by: &str| {
        !publisher.is_empty() && together(&publisher_words(by)) == publisher && name != subject.name
    };
    let mut wide = Subject { scope: Scope::Publisher, ..subject.clone() };
    let mut names = Vec::new();
    for one in known.values().filter(|one| is_sibling(&one.name, &one.publisher)) {
        wide.anchors.extend(complete(survey, one, registered, packages).anchors);
        names.push(one.name.clone());
    }
    wide.anchors.sort();
    wide.anchors.dedup_by(|a, b| a.kind == b.kind && a.value == b.value);
    (wide, names)
}
