//! Some of the remnants, by the words that a technician thinks in.

use stubble_core::model::path::is_inside_or_same;
use stubble_core::survey::User;
use stubble_core::trace::{GROUPS, Group, Remnant};

use crate::args::Narrow;
use crate::errors::CliError;
use crate::work::Work;

/// Which remnants are asked for.
pub struct Wanted<'w> {
    group: Option<Group>,
    user: Option<&'w User>,
}

impl<'w> Wanted<'w> {
    /// Fails where there is no such group or user.
    pub fn of(args: &Narrow, work: &'w Work) -> Result<Self, CliError> {
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

    /// Whether all that runs is meant, whoever runs it.
    pub fn is_what_runs(&self) -> bool {
        self.group == Some(Group::Running) && self.user.is_none()
    }

    /// Whether a remnant is among them.
    pub fn has(&self, remnant: &Remnant) -> bool {
        let path = &remnant.place.path;
        let is_users = |user: &User| {
            let hives = [user.profile.clone(), user.hive(), format!("{}_Classes", user.hive())];
            hives.iter().any(|top| is_inside_or_same(path, top))
        };
        self.group.is_none_or(|group| group == remnant.group) && self.user.is_none_or(is_users)
    }
}
