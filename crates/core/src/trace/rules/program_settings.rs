use std::collections::{BTreeMap, BTreeSet};

use super::Rule;
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::model::{Place, list};
use crate::survey::KeyId;
use crate::trace::lead::Lead;
use crate::trace::location::after_programs;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Settings that Windows keeps for a program by the name of its file alone: how it is started, watched
/// and helped when it fails. Only a name that no other program on the disk has tells whose they are; of a
/// program that is gone, what else in the registry names it by its path.
pub struct ProgramSettings;

impl Rule for ProgramSettings {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let named: Vec<_> = after_programs().flat_map(|root| registry.subkeys(&root)).collect();
        if named.is_empty() {
            return;
        }
        let folders: Vec<String> = claims.folders().map(|place| place.path.clone()).collect();
        let (mut own, mut others) = (BTreeSet::new(), BTreeSet::new());
        for path in scene.files_called(named.iter().map(|key| registry.name(*key))) {
            let is_own = folders.iter().any(|folder| is_inside_or_same(path, folder));
            if is_own { &mut own } else { &mut others }.insert(fold(leaf(path)));
        }
        let on_disk = |key: &&KeyId| {
            let name = fold(registry.name(**key));
            own.contains(&name) || others.contains(&name)
        };
        let gone =
            gone_programs(scene, claims, named.iter().filter(|key| !on_disk(key)).map(|key| registry.name(*key)));
        for key in named {
            let name = fold(registry.name(key));
            let evidence = if own.contains(&name) && !others.contains(&name) {
                let text = format!("Windows keeps settings there for {}, a program of the subject", registry.name(key));
                Evidence::new(RuleId::ProgramSettings, text, None)
            } else if let Some((lead, from)) = gone.get(&name) {
                let text = format!("Windows keeps settings there for {}, which was {}", lead.path, lead.words());
                Evidence::new(lead.rule(RuleId::ProgramSettings), text, Some(from.clone()))
            } else {
                continue;
            };
            claims.add(Place::key(registry.path(key)), evidence);
        }
    }
}

/// Of programs that are not on the disk those that the registry names by a path, each by its folded name with where
/// it leads and what names it, where everything that names one leads to the subject.
fn gone_programs<'n>(
    scene: &Scene<'_>,
    claims: &Claims,
    names: impl Iterator<Item = &'n str>,
) -> BTreeMap<String, (Lead, Place)> {
    let registry = &scene.survey.registry;
    let names: BTreeSet<String> = names.map(fold).collect();
    let paths_of = |hits: Vec<(KeyId, Option<usize>)>| {
        let values = hits.into_iter().filter_map(|(key, number)| Some((key, registry.values(key).nth(number?)?)));
        let texts = values.flat_map(|(key, value)| {
            let all = [Some(value.name.to_owned()), value.text()].into_iter().flatten();
            let all: Vec<String> = all.chain(list::entries(value.name, value.kind, value.data)).collect();
            all.into_iter().map(move |text| (Place::value(registry.path(key), value.name), text))
        });
        let named = texts.filter_map(|(from, text)| {
            let folded = fold(&text);
            let name = names.iter().find(|name| folded.contains(&format!("\\{name}")))?;
            Some((name.clone(), from, text))
        });
        named.collect::<Vec<_>>()
    };
    let lead = |from: &Place, text: &str, name: &str| {
        let lead = scene.lead_of(claims, text, scene.user_of(&from.path))?;
        (fold(leaf(&lead.path)) == name).then_some(lead)
    };
    // What leads to the subject has been found already.
    let mut found = BTreeMap::new();
    for (name, from, text) in paths_of(scene.mentioned_so_far()) {
        if let Some(lead) = lead(&from, &text, &name) {
            found.entry(name).or_insert((lead, from));
        }
    }
    if !found.is_empty() {
        for (name, _, text) in paths_of(scene.mentions(found.keys().cloned().collect())) {
            if path_to(&name, &text).is_some_and(|path| scene.lead(claims, &path).is_none()) {
                found.remove(&name);
            }
        }
    }
    found
}

/// The path that ends with a program's name somewhere in a text, folded.
fn path_to(name: &str, text: &str) -> Option<String> {
    let folded = fold(text);
    let end = folded.find(&format!("\\{name}"))? + 1 + name.len();
    let colon = folded[..end].rfind(":\\")?;
    let start = folded[..colon].char_indices().next_back()?.0;
    Some(folded[start..end].to_owned())
}
