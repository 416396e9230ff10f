//! The plan as TOML, with lines that explain themselves.

use std::fmt::Write;

use super::{Plan, PlanError, RUNGS, validate};
use crate::survey::Survey;
use crate::trace::Decision;

/// Name and version of the format.
pub const FORMAT: &str = "stubble.plan/1";

/// The plan as a file for people: a heading for each rung, a step each with its reason.
pub fn to_toml(plan: &Plan) -> String {
    let mut out = String::from(
        "# What `stubble clear` will do, in this order. Nothing else will be done.\n\
         # You can change `decision`: \"remove\" carries the step out, \"keep\" leaves it, \"ask\" leaves it too\n\
         # until you have decided. You can delete whole steps. Everything taken can be put back.\n\
         # `expect` is the state that the place was in; if it has changed, the step leaves it alone.\n\n",
    );
    let head = [("format", &plan.format), ("machine", &plan.machine), ("subject", &plan.subject)];
    for (name, value) in head {
        let _ = writeln!(out, "{name} = {}", quoted(value));
    }
    let mut rung = 0;
    for step in &plan.steps {
        if step.rung != rung {
            rung = step.rung;
            let words = RUNGS.iter().find(|(number, _)| *number == rung).map_or("", |(_, words)| words);
            let _ = write!(out, "\n# ---- Rung {rung}: {words} ----\n");
        }
        let _ = writeln!(out, "\n[[step]]\nid = {}", quoted(&step.id));
        let _ = writeln!(out, "decision = {}", quoted(step.decision.word()));
        if let Some(because) = &step.decided {
            let _ = writeln!(out, "decided = {}", quoted(because));
        }
        let _ = writeln!(out, "why = {}", quoted(&step.why));
        // What serde knows by name is written by serde, so that both directions agree.
        let table = toml::Table::try_from(step).expect("a step is a table");
        for name in ["kind", "rung", "title", "place", "parts", "standing", "after", "requires", "expect", "content"] {
            match table.get(name) {
                Some(toml::Value::Array(items)) if name == "parts" => {
                    let _ = writeln!(out, "parts = [");
                    items.iter().for_each(|item| {
                        let _ = writeln!(out, "  {},", inline(item));
                    });
                    let _ = writeln!(out, "]");
                }
                Some(value) => {
                    let _ = writeln!(out, "{name} = {}", inline(value));
                }
                None => {}
            }
        }
    }
    let kept = plan.steps.iter().filter(|step| step.decision != Decision::Remove).count();
    let _ = write!(out, "\n# {} steps, {kept} of them left alone.\n", plan.steps.len());
    out
}

/// Reads a plan and checks that each place has a permit on the machine.
pub fn from_toml(text: &str, survey: &Survey) -> Result<Plan, PlanError> {
    from_toml_begun(text, survey, None)
}

/// The same for a plan that may have been begun, with the machine as it was right before; see [`validate`].
pub fn from_toml_begun(text: &str, survey: &Survey, began: Option<&Survey>) -> Result<Plan, PlanError> {
    let plan = parse(text)?;
    validate(&plan, survey, began)?;
    Ok(plan)
}

/// Reads a plan and checks nothing but its form.
pub fn parse(text: &str) -> Result<Plan, PlanError> {
    toml::from_str(text).map_err(|error| PlanError::Unreadable(Box::new(error)))
}

fn quoted(text: &str) -> String {
    inline(&toml::Value::String(text.to_owned()))
}

/// A value on one line. Paths read best in single quotes, where TOML allows them.
fn inline(value: &toml::Value) -> String {
    match value {
        toml::Value::String(text)
            if text.contains('\\') && !text.contains(['\'', '\n', '\r']) && !text.chars().any(char::is_control) =>
        {
            format!("'{text}'")
        }
        toml::Value::Table(table) => {
            let fields: Vec<String> = table.iter().map(|(name, value)| format!("{name} = {}", inline(value))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
        toml::Value::Array(items) => format!("[{}]", items.iter().map(inline).collect::<Vec<_>>().join(", ")),
        other => other.to_string(),
    }
}
