//! Questions about single steps, at a terminal.

use stubble_core::model::registry::text_of;
use stubble_core::model::text::{fold, from_file};
use stubble_core::model::{Place, PlaceKind};
use stubble_core::plan::{Plan, Step};
use stubble_core::trace::why::explain;

use crate::Ui;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::Work;

/// What a person answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// It is taken.
    Take,
    /// It stays.
    Keep,
    /// Everything of its rung that asks is taken.
    TakeAll,
    /// Everything of its rung that asks stays.
    KeepAll,
    /// It is left undecided, and stays for now.
    Later,
    /// The job ends here; what was decided is kept.
    Quit,
}

/// Asks about a step until there is an answer.
pub fn ask(work: &Work, plan: &Plan, step: &Step, ui: &mut Ui) -> Result<Answer, CliError> {
    let needed_by: Vec<&str> =
        plan.steps.iter().filter(|other| other.requires.contains(&step.id)).map(|other| other.id.as_str()).collect();
    ui.tell(&terminal::decision(step, &needed_by, ui.width));
    loop {
        match ui.answer(terminal::DO_IT)?.to_lowercase().as_str() {
            "y" | "yes" => return Ok(Answer::Take),
            "n" | "no" => return Ok(Answer::Keep),
            "a" | "all" => return Ok(Answer::TakeAll),
            "none" => return Ok(Answer::KeepAll),
            "l" | "later" => return Ok(Answer::Later),
            "q" | "quit" => return Ok(Answer::Quit),
            "w" | "why" => {
                let explained = explain(&work.scene(), &work.trace(), &step.place.to_string());
                // What is not the subject's is in the plan for what it does to the subject.
                let text = match explained.remnant {
                    Some(_) => terminal::explained(&explained, ui.width),
                    None => terminal::content(std::slice::from_ref(&step.why), ui.width),
                };
                ui.tell(&text);
            }
            "s" | "show" => {
                let text = terminal::content(&content(work, step), ui.width);
                ui.tell(&text);
            }
            _ => ui.tell(&terminal::answers(step.rung)),
        }
    }
}

/// The largest number of lines of a place's content that are shown.
const MOST_LINES: usize = 20;

/// What a step's place holds, a line each.
fn content(work: &Work, step: &Step) -> Vec<String> {
    let mut lines = match step.parts.is_empty() {
        true => of_place(work, &step.place),
        false => step.parts.iter().map(Place::to_string).collect(),
    };
    if lines.len() > MOST_LINES {
        let more = lines.len() - MOST_LINES;
        lines.truncate(MOST_LINES);
        lines.push(format!("and {more} more"));
    }
    lines
}

fn of_place(work: &Work, place: &Place) -> Vec<String> {
    let survey = &work.survey;
    match place.kind {
        PlaceKind::File | PlaceKind::Shortcut => {
            let read = work.machine.observe().read_file(&place.path, 1 << 20);
            match read.ok().as_deref().and_then(text_in) {
                Some(text) => text.lines().map(str::to_owned).collect(),
                None => vec!["it is not text, or could not be read".to_owned()],
            }
        }
        PlaceKind::Folder => {
            let below = survey.files.find(&place.path).map(|folder| survey.files.below(folder)).unwrap_or_default();
            let line = |at: u32| format!("{:>12}  {}", survey.files.data(at).size, survey.files.path(at));
            below.into_iter().map(line).collect()
        }
        PlaceKind::Process => {
            let image = fold(&place.path);
            let same = survey.running.processes.iter().filter(|process| fold(&process.image) == image);
            same.flat_map(|process| process.holds.iter().map(|file| format!("holds {file}"))).collect()
        }
        _ => of_registry(work, place),
    }
}

fn of_registry(work: &Work, place: &Place) -> Vec<String> {
    let registry = &work.survey.registry;
    let path = match place.kind {
        PlaceKind::Service => format!("{}\\{}", work.survey.facts.services_key(), place.path),
        _ => place.path.clone(),
    };
    let Some(key) = registry.key(&path) else { return Vec::new() };
    let is_meant = |name: &str| place.name.as_deref().is_none_or(|own| fold(own) == fold(name));
    let values = registry.values(key).filter(|value| is_meant(value.name)).map(|value| {
        let name = if value.name.is_empty() { "(default value)" } else { value.name };
        format!("{name} = {}", text_of(value.data))
    });
    let keys = registry.keys().children(key).filter(|_| place.name.is_none());
    values.chain(keys.map(|key| format!("{}\\", registry.name(key)))).collect()
}

/// The text of a file; `None` where its content is none.
fn text_in(content: &[u8]) -> Option<String> {
    let text = from_file(content);
    let is_odd = |letter: char| {
        letter == char::REPLACEMENT_CHARACTER || letter.is_control() && !matches!(letter, '\t' | '\r' | '\n')
    };
    (!text.contains(is_odd)).then_some(text)
}
