use super::Rule;
use crate::content::Content;
use crate::model::path::leaf;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Scheduled tasks that run a program in a folder of the subject, or are named after it.
pub struct Task;

impl Rule for Task {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for task in scene.tasks() {
            let place = Place::new(PlaceKind::Task, &task.path);
            let told = task.file.and_then(|file| scene.survey.contents.iter().find(|told| told.file == file));
            if let Some(Content::Task(definition)) = told.map(|told| &told.content) {
                for program in definition.commands.iter().filter_map(|command| scene.program(command, None)) {
                    let Some(lead) = scene.lead(claims, &program) else { continue };
                    let text = format!("it runs {program}, {}", lead.words());
                    let evidence = Evidence::new(lead.rule(RuleId::TaskCommand), text, Some(lead.place));
                    claims.add_with_parts(place.clone(), task.parts.clone(), evidence);
                }
            }
            // A folder of tasks may have the publisher's name.
            let above = task.path.rsplit_once('\\').map_or("", |(above, _)| above);
            let by_publisher = scene.is_publisher(leaf(above));
            if scene.begins_with_subject(leaf(&task.path)) || scene.fit(leaf(above)).is_some() {
                let text = "it has the product's name in the task library".to_owned();
                let rule = if by_publisher { RuleId::NamedTask } else { RuleId::NamedTaskAlone };
                claims.add_with_parts(place, task.parts.clone(), Evidence::new(rule, text, None));
            }
        }
    }
}
