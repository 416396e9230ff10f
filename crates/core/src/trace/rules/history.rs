use super::Rule;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::EntryKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// What Windows keeps to start programs of the subject faster: a file for each program that ran.
pub struct History;

impl Rule for History {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let files = &scene.survey.files;
        let Some(folder) = files.find(&format!("{}\\Prefetch", scene.survey.facts.windows)) else { return };
        let tops: Vec<u32> = claims.folders().filter_map(|place| files.find(&place.path)).collect();
        let below = tops.into_iter().flat_map(|top| files.below(top));
        let programs = below.filter(|at| files.data(*at).kind == EntryKind::File);
        let programs: Vec<String> =
            programs.map(|at| fold(files.name(at))).filter(|name| name.ends_with(".EXE")).collect();
        for file in files.children(folder) {
            let Some((program, _)) = files.name(file).rsplit_once('-') else { continue };
            if programs.contains(&fold(program)) {
                let place = Place::new(PlaceKind::File, files.path(file));
                claims
                    .add(place, Evidence::new(RuleId::History, format!("Windows has noted that {program} ran"), None));
            }
        }
    }
}
