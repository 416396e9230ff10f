//! Why a place is taken, or why it is not.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Evidence, Remnant, Scene, Trace};
use crate::model::path::is_inside_or_same;
use crate::model::text::fold;
use crate::model::{Guid, Place};
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

/// Explains a remnant by its short name, or a place by its path or identifier.
pub fn explain(scene: &Scene<'_>, trace: &Trace, asked: &str) -> Explanation {
    let code = asked.parse::<Guid>().ok().or_else(|| Guid::from_packed(asked));
    let occurs = find(&scene.survey.registry, code.as_slice());
    let by_code = |remnant: &&Remnant| {
        let (Some(code), false) = (code, remnant.parts.is_empty()) else { return false };
        let packed = code.packed();
        fold(&remnant.place.path) == code.to_string()
            || remnant.parts.iter().any(|part| {
                fold(&part.path).ends_with(&packed) || part.name.as_deref().map(fold) == Some(packed.clone())
            })
    };
    let covers = |remnant: &&Remnant| {
        let places = std::iter::once(&remnant.place).chain(&remnant.parts);
        remnant.id.eq_ignore_ascii_case(asked)
            || places.into_iter().any(|place| match place.name.is_none() && place.path.len() > 3 {
                true => is_inside_or_same(asked, &place.path),
                false => fold(&place.to_string()) == fold(asked),
            })
    };
    if let Some(remnant) = trace.remnants.iter().find(|one| covers(one) || by_code(one)) {
        let chain = chain(trace, remnant);
        let verdict = format!("{}: {}", remnant.decision.word(), remnant.reason);
        let place = remnant.place.to_string();
        return Explanation { place, exists: true, verdict, remnant: Some(remnant.clone()), chain, occurs };
    }
    let survey = scene.survey;
    let exists = !occurs.is_empty() || survey.exists(asked) || survey.registry.key(asked).is_some();
    let place = if asked.as_bytes().get(1) == Some(&b':') { Place::folder(asked) } else { Place::key(asked) };
    let bystander = trace.bystanders.iter().find(|one| is_inside_or_same(asked, &one.place.path));
    let verdict = match (bystander, scene.permits.why(&place)) {
        (Some(bystander), _) => format!("not taken: {} ({})", bystander.owner, bystander.text),
        (None, Some(why)) => format!("not taken, whatever a plan says: {why}"),
        (None, None) if !exists => "nothing is there, or it could not be looked at".to_owned(),
        (None, None) => format!("not taken: no rule connects it with {}", scene.subject.name),
    };
    Explanation { place: asked.to_owned(), exists, verdict, remnant: None, chain: Vec::new(), occurs }
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
