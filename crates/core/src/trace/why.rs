//! Why a place is taken, or why it is not.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Evidence, Remnant, Scene, Trace};
use crate::model::path::{is_inside_or_same, plain};
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind};
use crate::permits::spelling::physical;
use crate::survey::Survey;
use crate::survey::search::{Occurrence, find};

/// The explanation for one place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Explanation {
    /// What was asked for, as the machine spells it.
    pub place: String,
    /// Whether anything is there.
    pub exists: bool,
    /// The verdict in one sentence.
    pub verdict: String,
    /// The remnant that it is, or that it is a part of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remnant: Option<Remnant>,
    /// The chain of evidence, from the place to the anchors.
    pub chain: Vec<Evidence>,
    /// Where else in the registry an identifier that was asked for stands.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub occurs: Vec<Occurrence>,
}

/// Explains a remnant by its short name, or a place by its path or identifier, in whatever spelling.
pub fn explain(scene: &Scene<'_>, trace: &Trace, asked: &str) -> Explanation {
    let survey = scene.survey;
    // 32 digits are the installer's own spelling, or an identifier without its signs.
    let codes: Vec<Guid> = [asked.parse::<Guid>().ok(), Guid::from_packed(asked)].into_iter().flatten().collect();
    let occurs = find(&survey.registry, &codes);
    let by_code = |remnant: &&Remnant| {
        !remnant.parts.is_empty()
            && codes.iter().any(|code| {
                let packed = code.packed();
                let is_it = |part: &Place| {
                    fold(&part.path).ends_with(&packed) || part.name.as_deref().map(fold) == Some(packed.clone())
                };
                fold(&remnant.place.path) == code.to_string() || remnant.parts.iter().any(is_it)
            })
    };
    let place = place_of(survey, asked);
    let covers = |remnant: &&Remnant| {
        let mut places = std::iter::once(&remnant.place).chain(&remnant.parts);
        remnant.id.eq_ignore_ascii_case(asked)
            || places.any(|other| match other.name.is_none() && other.path.len() > 3 && !other.kind.is_unit() {
                true if other.kind == PlaceKind::Service => fold(&place.path) == fold(&other.path),
                true => is_inside_or_same(&place.path, &other.path),
                false => [asked, &place.to_string()].map(fold).contains(&fold(&other.to_string())),
            })
    };
    if let Some(remnant) = trace.remnants.iter().find(|one| covers(one) || by_code(one)) {
        let chain = chain(trace, remnant);
        let verdict = format!("{}: {}", remnant.decision.word(), remnant.reason);
        let place = remnant.place.to_string();
        return Explanation { place, exists: true, verdict, remnant: Some(remnant.clone()), chain, occurs };
    }
    let is_service = place.kind == PlaceKind::Service;
    let exists =
        !occurs.is_empty() || is_service || survey.exists(&place.path) || survey.registry.key(&place.path).is_some();
    let bystander = trace.bystanders.iter().find(|one| is_inside_or_same(&place.path, &one.place.path));
    let name = &scene.subject.name;
    let verdict = match (bystander, scene.permits.ask(&place)) {
        (Some(bystander), _) => format!("not taken: {} ({})", bystander.owner, bystander.text),
        (None, _) if !is_place(asked) && !exists => "it is the name of no place, remnant or identifier here".to_owned(),
        (None, Err(why)) => format!("not taken, whatever a plan says: {why}"),
        (None, Ok(_)) if !exists => "nothing is there, or it could not be looked at".to_owned(),
        (None, Ok(permit)) => {
            let caution = permit.caution.map(|why| format!("; {why}")).unwrap_or_default();
            format!("not taken: no rule connects it with {name}. A plan may name it, as {}{caution}", permit.what)
        }
    };
    let told = if is_service { asked.to_owned() } else { place.to_string() };
    Explanation { place: told, exists, verdict, remnant: None, chain: Vec::new(), occurs }
}

/// Whether a text is the path of something, at least by its shape.
fn is_place(asked: &str) -> bool {
    asked.contains(['\\', '/']) || asked.as_bytes().get(1) == Some(&b':')
}

/// The place that a text names, as this machine spells it: short names and variables written out, keys by their short
/// roots in the control set in force, a service's key as the service.
pub fn place_of(survey: &Survey, asked: &str) -> Place {
    let on_disk = plain(asked.trim().trim_matches('"'), &survey.environment(None));
    if on_disk.as_bytes().get(1) == Some(&b':') && !fold(&on_disk).starts_with("HKLM:") {
        let path = survey.spelled_out(&on_disk).into_owned();
        return if survey.has_file(&path) { Place::file(path) } else { Place::folder(path) };
    }
    let (key, value) = match asked.split_once(" : ") {
        Some((key, value)) => (key, Some(value)),
        None => {
            (asked.strip_suffix(" (default value)").unwrap_or(asked), asked.ends_with(" (default value)").then_some(""))
        }
    };
    let path = match of_a_user(survey, key.trim()) {
        Some(path) => path,
        None => physical(key.trim(), &survey.facts),
    };
    let service = path.rsplit_once('\\').filter(|(above, _)| fold(above) == fold(&survey.facts.services_key()));
    match (value, service) {
        (Some(value), _) => Place::value(path, value),
        (None, Some((_, name))) if survey.registry.key(&path).is_some() => Place::new(PlaceKind::Service, name),
        _ => Place::key(path),
    }
}

/// A key that is named as the current user's, in the registry of the first user that has it.
fn of_a_user(survey: &Survey, key: &str) -> Option<String> {
    let folded = fold(key);
    let roots = ["HKEY_CURRENT_USER\\", "HKCU:\\", "HKCU\\"];
    let below = &key[roots.iter().find(|root| folded.starts_with(*root))?.len()..];
    let paths = survey.facts.users.iter().flat_map(|user| {
        let classes = fold(below).starts_with("SOFTWARE\\CLASSES\\").then(|| &below["Software\\Classes\\".len()..]);
        let classes = classes.map(|rest| format!("{}_Classes\\{rest}", user.hive()));
        std::iter::once(format!("{}\\{below}", user.hive())).chain(classes)
    });
    let mut paths = paths.peekable();
    let first = paths.peek().cloned();
    paths.find(|path| survey.registry.key(path).is_some()).or(first)
}

/// The remnant's evidence, and that of the remnants which it was read from.
fn chain(trace: &Trace, remnant: &Remnant) -> Vec<Evidence> {
    let mut chain = remnant.evidence.clone();
    let mut next = 0;
    while next < chain.len() {
        if let Some(from) = chain[next].from.clone() {
            let source = trace.remnants.iter().find(|other| from.is_within(&other.place) && other.id != remnant.id);
            for evidence in source.map(|source| source.evidence.clone()).unwrap_or_default() {
                if !chain.contains(&evidence) {
                    chain.push(evidence);
                }
            }
        }
        next += 1;
    }
    chain
}
