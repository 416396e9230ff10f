//! Whether a path or a command line leads to the subject: into a folder of it, or to where one was.

use super::{Claims, RuleId, Scene};
use crate::model::host::{arguments, is_host};
use crate::model::path::{is_inside_or_same, leaf, parent, plain};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::User;

/// A path that leads to the subject.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lead {
    /// The path, made plain.
    pub path: String,
    /// The place of the subject that it leads into.
    pub place: Place,
    /// Whether that place is no longer there.
    pub is_gone: bool,
}

impl Lead {
    /// Where it leads, for the end of a sentence.
    pub fn words(&self) -> &'static str {
        if self.is_gone { "where the subject was installed" } else { "in a folder of the subject" }
    }

    /// The rule by which it counts: a place that is gone is known by its name alone.
    pub fn rule(&self, rule: RuleId) -> RuleId {
        if self.is_gone { RuleId::LeadGone } else { rule }
    }
}

impl Scene<'_> {
    /// The subject's place that a path leads into.
    pub fn lead(&self, claims: &Claims, path: &str) -> Option<Lead> {
        let spelled_out = self.survey.spelled_out(path);
        let path = spelled_out.as_ref();
        let found = |place: Place, is_gone| Some(Lead { path: path.to_owned(), place, is_gone });
        if let Some(folder) = claims.folder_over(path) {
            let place = folder.clone();
            let is_others = |folder: &String| {
                is_inside_or_same(path, folder)
                    && is_inside_or_same(folder, &place.path)
                    && fold(folder) != fold(&place.path)
            };
            let others = self.others.iter().any(|other| other.folders.iter().any(is_others));
            return if others { None } else { found(place, false) };
        }
        let own = Place::file(path);
        if claims.has(&own) {
            return found(own, false);
        }
        let mut at = Some(path);
        while let Some(folder) = at.filter(|folder| folder.contains('\\') && !self.survey.exists(folder)) {
            if self.was_subjects(folder) {
                return found(Place::folder(folder), true);
            }
            at = parent(folder);
        }
        None
    }

    /// Whether a folder that is gone was the subject's: a registration named it, or its name tells.
    pub(super) fn was_subjects(&self, folder: &str) -> bool {
        if self.survey.exists(folder)
            || self.others.iter().any(|other| other.folders.iter().any(|own| is_inside_or_same(own, folder)))
        {
            return false;
        }
        let folded = fold(folder);
        if self.install_folders.contains(&folded) {
            return true;
        }
        let Some(above) = parent(folder) else { return false };
        let is_root = |path: &str| self.roots.contains(&fold(path));
        match self.fit(leaf(folder)) {
            Some(super::scene::NameFit::Full) if is_root(above) => true,
            Some(_) => self.is_publisher(leaf(above)) && parent(above).is_some_and(is_root),
            None => false,
        }
    }

    /// The subject's place that a text leads into: a path, a command line, a host with what it runs,
    /// an icon with its number.
    pub fn lead_of(&self, claims: &Claims, text: &str, user: Option<&User>) -> Option<Lead> {
        if !text.contains(['\\', '/']) {
            return None;
        }
        let environment = self.survey.environment(user);
        let direct = self.program(text, user);
        if let Some(lead) = direct.as_deref().and_then(|program| self.lead(claims, program)) {
            return Some(lead);
        }
        let whole = plain(text.trim().trim_matches('"'), &environment);
        // `path,-101` names a resource in a file.
        let file = match whole.rsplit_once(',') {
            Some((file, number)) if number.trim().parse::<i32>().is_ok() => file.trim_matches('"').to_owned(),
            _ => whole.clone(),
        };
        if let Some(lead) = self.lead(claims, &file) {
            return Some(lead);
        }
        if !direct.as_deref().is_some_and(is_host) {
            return None;
        }
        arguments(text).into_iter().find_map(|path| self.lead(claims, &plain(&path, &environment)))
    }

    /// Texts to look for in the registry: whatever leads to the subject holds one of them.
    pub fn needles(&self, claims: &Claims) -> Vec<String> {
        let mut needles: Vec<String> = claims.folders().map(|place| leaf(&place.path).to_owned()).collect();
        needles.extend(claims.of_kind(PlaceKind::File).map(|place| leaf(&place.path).to_owned()));
        needles.extend(self.spelled.iter().cloned());
        let short = |name: &String| {
            let stem: String = name.chars().filter(|letter| letter.is_alphanumeric()).take(6).collect();
            (stem.chars().count() == 6).then(|| format!("{stem}~"))
        };
        let short: Vec<String> = needles.iter().filter_map(short).collect();
        needles.extend(short);
        needles.retain(|needle| needle.chars().count() >= 3);
        needles
    }
}
