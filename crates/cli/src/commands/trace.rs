//! `trace`: what belongs to the subject.

use stubble_core::model::path::is_inside_or_same;
use stubble_core::survey::User;
use stubble_core::survey::compare::count;
use stubble_core::trace::{Decision, GROUPS, Group, Remnant};

use super::show;
use crate::args::Trace;
use crate::documents::{Documented, Traced};
use crate::errors::CliError;
use crate::views::{terminal, tsv};
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Trace, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    work.note_new_install(ui);
    let wanted = Wanted::of(args, &work)?;
    let mut traced = Traced {
        computer: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.name.clone(),
        looked_at: count(&work.survey),
        trace: work.trace(),
    };
    if !work.case.folder().join("trace.json").exists() {
        work.case.write("trace.json", traced.to_json().as_bytes())?;
    }
    traced.trace.remnants.retain(|remnant| wanted.has(remnant));
    match args.tsv {
        true => ui.print(&tsv::remnants(&traced.trace.remnants)),
        false => show(&traced, settings, ui, |traced, width| terminal::traced(traced, args.all, width)),
    }
    let found = traced.trace.remnants.iter().any(|remnant| remnant.decision != Decision::Keep);
    Ok(if found { Exit::No } else { Exit::Done })
}

/// Which remnants are asked for.
struct Wanted<'w> {
    group: Option<Group>,
    user: Option<&'w User>,
}

impl<'w> Wanted<'w> {
    fn of(args: &Trace, work: &'w Work) -> Result<Self, CliError> {
        let unknown = |name: &str, known: Vec<String>| CliError::NotAmong { name: name.to_owned(), known };
        let group = match &args.only {
            None => None,
            Some(name) => {
                let found = GROUPS.into_iter().find(|group| group.word().eq_ignore_ascii_case(name));
                let words = || GROUPS.iter().map(|group| group.word().to_owned()).collect();
                Some(found.ok_or_else(|| unknown(name, words()))?)
            }
        };
        let user = match &args.user {
            None => None,
            Some(name) => {
                let users = &work.survey.facts.users;
                let found = users.iter().find(|user| user.name.to_lowercase() == name.to_lowercase());
                let names = || users.iter().map(|user| user.name.clone()).collect();
                Some(found.ok_or_else(|| unknown(name, names()))?)
            }
        };
        Ok(Self { group, user })
    }

    fn has(&self, remnant: &Remnant) -> bool {
        let path = &remnant.place.path;
        let is_users = |user: &User| {
            let hives = [user.profile.clone(), user.hive(), format!("{}_Classes", user.hive())];
            hives.iter().any(|top| is_inside_or_same(path, top))
        };
        self.group.is_none_or(|group| group == remnant.group) && self.user.is_none_or(is_users)
    }
}
