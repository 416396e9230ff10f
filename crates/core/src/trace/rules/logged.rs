use super::Rule;
use crate::model::Place;
use crate::subject::AnchorKind;
use crate::trace::bystanders::is_in_others;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Files that an installer has written, according to its log, and that are there.
pub struct Logged;

impl Rule for Logged {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for anchor in scene.subject.anchors.iter().filter(|anchor| anchor.kind == AnchorKind::LoggedFile) {
            let Some(entry) = scene.survey.entry(&anchor.value) else { continue };
            let path = scene.survey.files.path(entry);
            if claims.folder_over(&path).is_none() && !is_in_others(scene, &path) {
                let text = format!("{} says that setup wrote it", anchor.from);
                claims.add(Place::file(path), Evidence::new(RuleId::Log, text, None));
            }
        }
    }
}
