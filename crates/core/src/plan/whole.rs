//! Whether a plan takes a product that is whole, and not what is left of one.

use super::{Plan, StepKind};
use crate::model::path::{is_inside_or_same, program_of};
use crate::packages::Registered;
use crate::survey::Survey;

/// The name of a product that a plan takes although it is installed with all that its registration names: the package
/// installer's, or an entry of the list of programs with its folder and its uninstaller.
pub fn takes_whole(plan: &Plan, survey: &Survey, registered: &Registered) -> Option<String> {
    plan.chosen().find_map(|step| match step.kind {
        StepKind::Unregister | StepKind::Uninstall => {
            let product = registered.products.get(&step.place.path.parse().ok()?)?;
            (product.is_whole(survey) && product.cache_is_there(survey) == Some(true)).then(|| product.name.clone())
        }
        StepKind::TakeKey => {
            let key = survey.registry.key(&step.place.path)?;
            let text = |name: &str| survey.registry.text(key, name).filter(|text| !text.is_empty());
            let (name, folder) = (text("DisplayName")?, text("InstallLocation")?);
            let is_there = |path: &str| survey.has_file(path);
            let at = |command: &str| program_of(command, &survey.environment(None), &is_there);
            let shown = text("DisplayIcon")?;
            let shown = shown.rsplit_once(',').map_or(shown.as_str(), |(file, _)| file);
            let (uninstaller, program) = (at(&text("UninstallString")?)?, at(shown)?);
            // What the package installer has registered is judged by that.
            let is_own = |file: &String| is_inside_or_same(file, folder.trim_end_matches('\\')) && is_there(file);
            [uninstaller, program].iter().all(is_own).then_some(name)
        }
        _ => None,
    })
}
