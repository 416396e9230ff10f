//! The order of steps: gentle before drastic, and what a step needs before it.

use super::Step;

/// Sorts steps by rung, kind and place. Within a rung, a deeper place goes before the one that
/// it lies in.
pub fn ordered(mut steps: Vec<Step>) -> Vec<Step> {
    steps.sort_by(|a, b| {
        (a.rung, a.kind, std::cmp::Reverse(depth(a)), &a.place.path, &a.place.name).cmp(&(
            b.rung,
            b.kind,
            std::cmp::Reverse(depth(b)),
            &b.place.path,
            &b.place.name,
        ))
    });
    steps
}

fn depth(step: &Step) -> usize {
    step.place.path.matches('\\').count()
}
