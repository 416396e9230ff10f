use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Shortcuts that lead into a folder of the subject.
pub struct Shortcut;

impl Rule for Shortcut {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for shortcut in &scene.survey.shortcuts {
            let path = scene.survey.files.path(shortcut.file);
            let target = crate::model::path::plain(&shortcut.target, &scene.survey.environment(scene.user_of(&path)));
            let Some(lead) = scene.lead(claims, &target) else { continue };
            let text = format!("it leads to {target}, {}", lead.words());
            let evidence = Evidence::new(lead.rule(RuleId::ShortcutTarget), text, Some(lead.place));
            claims.add(Place::new(PlaceKind::Shortcut, path), evidence);
        }
    }
}
