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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::model::{Place, PlaceKind};
    use crate::plan::{FORMAT, Plan, StepKind, from_toml, to_toml};
    use crate::trace::{Decision, Standing};

    fn step() -> impl Strategy<Value = Step> {
        let kind = prop_oneof![
            Just((StepKind::EndProcess, PlaceKind::Process, 1u8)),
            Just((StepKind::TakeValue, PlaceKind::Startup, 3)),
            Just((StepKind::TakeFolder, PlaceKind::Folder, 4)),
            Just((StepKind::TakeKey, PlaceKind::Key, 5)),
            Just((StepKind::TakeFile, PlaceKind::File, 6)),
        ];
        let decision = prop_oneof![Just(Decision::Ask), Just(Decision::Keep)];
        let path = prop::collection::vec("[a-zA-Z' äж]{1,6}", 1..5);
        (kind, decision, path, "\\PC{0,20}").prop_map(|((kind, place, rung), decision, path, why)| Step {
            id: String::new(),
            decision,
            decided: None,
            kind,
            rung,
            place: Place {
                kind: place,
                path: format!("C:\\{}", path.join("\\")),
                name: (place == PlaceKind::Startup).then(|| why.clone()),
                entry: None,
            },
            title: String::new(),
            parts: Vec::new(),
            standing: Standing::Likely,
            why,
            after: Vec::new(),
            requires: Vec::new(),
            expect: "0".repeat(32),
            content: None,
        })
    }

    fn plan() -> impl Strategy<Value = Plan> {
        prop::collection::vec(step(), 0..25).prop_map(|steps| {
            let mut steps = ordered(steps);
            for (number, step) in steps.iter_mut().enumerate() {
                step.id = format!("s{number:02}");
            }
            Plan { format: FORMAT.into(), machine: String::new(), subject: "Scale \"Desk\"".into(), steps }
        })
    }

    fn nowhere() -> crate::survey::Survey {
        use crate::survey::{Entry, EntryKind, Facts, RegistryBuilder, Running, Survey, TreeBuilder};
        let root = Entry { kind: EntryKind::Folder, size: 0, modified: crate::model::FileTime(0) };
        Survey {
            facts: Facts::default(),
            files: TreeBuilder::new(root).finish(),
            registry: RegistryBuilder::default().finish(),
            running: Running::default(),
            shortcuts: Vec::new(),
            contents: Vec::new(),
            short_names: Vec::new(),
            gaps: Vec::new(),
        }
    }

    proptest! {
        #[test]
        fn gentle_goes_before_drastic_and_deep_before_shallow(plan in plan()) {
            for pair in plan.steps.windows(2) {
                prop_assert!(pair[0].rung <= pair[1].rung);
                let same = pair[0].rung == pair[1].rung && pair[0].kind == pair[1].kind;
                prop_assert!(!same || depth(&pair[0]) >= depth(&pair[1]));
            }
        }

        #[test]
        fn the_order_does_not_depend_on_the_order_of_finding(plan in plan(), seed in any::<u64>()) {
            let mut shuffled = plan.steps.clone();
            let len = shuffled.len().max(1);
            for at in 0..shuffled.len() {
                shuffled.swap(at, (seed as usize).wrapping_mul(at + 7) % len);
            }
            let places = |steps: Vec<Step>| steps.into_iter().map(|step| (step.rung, step.place)).collect::<Vec<_>>();
            prop_assert_eq!(places(ordered(shuffled)), places(plan.steps));
        }

        #[test]
        fn a_plan_survives_its_file(plan in plan()) {
            let text = to_toml(&plan);
            match from_toml(&text, &nowhere()) {
                Ok(read) => prop_assert_eq!(read, plan),
                Err(error) => prop_assert!(false, "{error}\n{text}"),
            }
        }
    }
}
