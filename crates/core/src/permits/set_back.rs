//! Values of Windows' own that a program has pointed at itself: what starts its desktop, opens its files, signs people in.
//!
//! Taking one would leave nothing in its place, and taking the program that it leads to would leave Windows with a
//! program that is not there. So it is set back to what Windows has there.

use super::leads::Leads;
use super::{INTO_WINDOWS, NOT_TOLD, OF_ALL, OF_WINDOWS, Permit, Permits, slots, spelling};
use crate::model::path::{is_inside_or_same, program_of};
use crate::model::registry::text_of;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::KeyId;

/// A value of Windows' own that leads to a program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeadOfWindows {
    /// The value.
    pub place: Place,
    /// The program.
    pub program: String,
    /// What Windows needs it for, where Windows would not work without the program.
    pub needed: Option<&'static str>,
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

    /// All values of Windows' own that lead to programs which are not.
    pub fn leads_of_windows(&self) -> Vec<LeadOfWindows> {
        let registry = &self.survey.registry;
        let environment = self.survey.environment(None);
        let exists = |path: &str| self.survey.has_file(path);
        let mut found = Vec::new();
        for (slot, pattern) in slots::set_back() {
            for key in self.keys_like(pattern) {
                for value in registry.values(key).filter(|value| slot.may_name(value.name)) {
                    let path = registry.path(key);
                    let Some(text) =
                        value.text().filter(|_| slots::back(&path, value.name, &self.survey.facts).is_some())
                    else {
                        continue;
                    };
                    let programs = text.split(',').filter_map(|one| program_of(one, &environment, &exists));
                    let others = programs.filter(|program| !is_inside_or_same(program, &self.survey.facts.windows));
                    found.extend(others.map(|program| LeadOfWindows {
                        place: Place { kind: PlaceKind::WindowsValue, ..Place::value(path.as_str(), value.name) },
                        program,
                        needed: slot.needed,
                    }));
                }
            }
        }
        found
    }

    /// Keys of this machine that a slot's pattern stands for, of the machine's own and none of a user's.
    fn keys_like(&self, pattern: &[String]) -> Vec<KeyId> {
        let facts = &self.survey.facts;
        let concrete = |part: &String| match part.as_str() {
            spelling::CLASSES => "HKLM\\SOFTWARE\\Classes".to_owned(),
            spelling::SET => facts.control_set.clone(),
            part => part.to_owned(),
        };
        let path = pattern.iter().map(concrete).collect::<Vec<_>>().join("\\");
        let narrow = match fold(&path).strip_prefix("HKLM\\SOFTWARE\\CLASSES") {
            Some(rest) => format!("HKLM\\SOFTWARE\\Classes\\WOW6432Node{rest}"),
            None => path.replacen("HKLM\\SOFTWARE\\", "HKLM\\SOFTWARE\\WOW6432Node\\", 1),
        };
        let narrow = Some(narrow).filter(|narrow| *narrow != path);
        std::iter::once(path).chain(narrow).filter_map(|path| self.survey.registry.key(&path)).collect()
    }
}
