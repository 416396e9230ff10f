//! Values through which Windows itself starts a program: its desktop, sign-in, and what opens its files.
//!
//! If one is taken, Windows has nothing in its place; if the program alone is taken, Windows starts a program that does
//! not exist. So a value of the machine is set back to what Windows has there, and a user's own key, which overrides the
//! machine's, is removed. Otherwise the program stays.

use super::leads::Leads;
use super::slots::{self, Slot, Takes};
use super::spelling::{CLASSES, SET, USER};
use super::{INTO_WINDOWS, NOT_TOLD, OF_ALL, OF_WINDOWS, Permit, Permits};
use crate::model::path::{is_inside_or_same, program_of};
use crate::model::registry::text_of;
use crate::model::{Place, PlaceKind};
use crate::survey::{KeyId, ValueView};

/// A program that is not Windows' own and that Windows starts through a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Started {
    /// What a step must take or set back, so that Windows no longer starts it.
    pub place: Place,
    /// The program.
    pub program: String,
    /// What Windows needs the program for, as a sentence.
    pub needed: &'static str,
}

impl Permits<'_> {
    /// Whether a value may be set back.
    pub(super) fn set_back(&self, key: &str, name: &str) -> Result<Permit, &'static str> {
        let survey = self.survey;
        let windows = slots::back(key, name, &survey.facts).ok_or(OF_WINDOWS)?;
        let permit = Permit { what: "a value of Windows that leads to a program", caution: None };
        let text = survey.registry.key(key).and_then(|key| survey.registry.text(key, name));
        let Some(text) = text.filter(|text| *text != text_of(&windows.data)) else { return Ok(permit) };
        let each: Vec<Leads> = text.split(',').map(|one| self.leads(one)).collect();
        if each.iter().filter(|leads| leads.program).count() > 1 {
            return Err(OF_ALL);
        }
        let leads = match each.into_iter().fold(Leads::default(), Leads::and) {
            leads if leads == Leads::default() => self.leads_of_kind(text.trim()),
            leads => leads,
        };
        match leads {
            Leads { program: true, .. } => Ok(permit),
            Leads { windows: true, .. } => Err(INTO_WINDOWS),
            Leads { .. } => Err(NOT_TOLD),
        }
    }

    /// Whether a user's key that overrides one of Windows' own may be taken.
    pub(super) fn override_of_user(&self, path: &str, slot: &'static Slot) -> Result<Permit, &'static str> {
        match self.survey.registry.key(path).map(|key| self.leads_in(key)) {
            None | Some(Leads { program: true, windows: false }) => Ok(Permit { what: slot.what, caution: None }),
            Some(Leads { windows: true, .. }) => Err(INTO_WINDOWS),
            Some(Leads { .. }) => Err(NOT_TOLD),
        }
    }

    /// All programs that Windows starts through values and that are not its own.
    pub fn started_by_windows(&self) -> Vec<Started> {
        let environment = self.survey.environment(None);
        let exists = |path: &str| self.survey.has_file(path);
        let mut found = Vec::new();
        for (slot, key, value) in self.values_in(&|slot| slot.needed.is_some()) {
            let (Some(needed), Some(text)) = (slot.needed, value.text()) else { continue };
            let path = self.survey.registry.path(key);
            let place = match slot.takes {
                Takes::Back if slots::back(&path, value.name, &self.survey.facts).is_none() => Place::key(path),
                Takes::Back => Place { kind: PlaceKind::WindowsValue, ..Place::value(path, value.name) },
                _ => Place::value(path, value.name),
            };
            let programs = text.split(',').filter_map(|one| program_of(one, &environment, &exists));
            let others = programs.filter(|program| !is_inside_or_same(program, &self.survey.facts.windows));
            found.extend(others.map(|program| Started { place: place.clone(), program, needed }));
        }
        found
    }

    /// Values of this machine and its users in the slots that `is_meant` accepts; a slot with `*` in its path has none.
    pub fn values_in(&self, is_meant: &dyn Fn(&Slot) -> bool) -> Vec<(&'static Slot, KeyId, ValueView<'_>)> {
        let registry = &self.survey.registry;
        let mut found = Vec::new();
        for slot in slots::all().filter(|slot| is_meant(slot)) {
            for key in self.keys_like(slot.pattern()) {
                let own = registry.values(key).filter(|value| slot.may_name(value.name));
                found.extend(own.map(|value| (slot, key, value)));
            }
        }
        found
    }

    fn keys_like(&self, pattern: &[String]) -> Vec<KeyId> {
        let facts = &self.survey.facts;
        let names: Vec<&str> = pattern.iter().map(String::as_str).collect();
        let (roots, below): (Vec<String>, &[&str]) = match &names[..] {
            [CLASSES, below @ ..] => (self.class_roots.clone(), below),
            ["HKU", USER, below @ ..] => (facts.users.iter().map(|user| user.hive()).collect(), below),
            ["HKLM", "SOFTWARE", below @ ..] => {
                (facts.software_views().into_iter().map(str::to_owned).collect(), below)
            }
            ["HKLM", "SYSTEM", SET, below @ ..] => (vec![format!("HKLM\\SYSTEM\\{}", facts.control_set)], below),
            _ => return Vec::new(),
        };
        let paths = roots.into_iter().map(|root| format!("{root}\\{}", below.join("\\")));
        paths.filter_map(|path| self.survey.registry.key(&path)).collect()
    }
}
