//! What may go of the registry.

use super::leads::Leads;
use super::slots::{self, Proof, Slot, Takes};
use super::spelling::{CLASSES, Listed, SET, USER, physical};
use super::windows::{KEYS, Own, is_class, is_service};
use super::{INTO_WINDOWS, NOT_TOLD, OF_ALL, OF_WINDOWS, Permit, Permits, Shape};
use crate::model::text::fold;
use crate::model::{Guid, Place};
use crate::survey::firewall::FirewallRule;
use crate::survey::{Facts, KeyId};

pub(super) const ROOT: &str = "it is a root of the registry";

/// Whether a key is a root or a part of Windows by its path alone: nothing in it is asked.
pub fn is_shared(path: &str, facts: &Facts) -> Option<&'static str> {
    let listed = Listed::read(&physical(path, facts));
    by_name(&listed, Shape::Key).err().or_else(|| match region(&listed) {
        Region::Own | Region::Classes | Region::Service => None,
        Region::Slots => {
            let is_slot = slots::over(&listed).any(|slot| slot.takes == Takes::Key);
            (!is_slot).then_some(OF_WINDOWS)
        }
        Region::Root => Some(ROOT),
    })
}

/// Which rules hold for a part of the registry.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Region {
    Root,
    /// Keys of publishers.
    Own,
    Classes,
    Service,
    /// Windows' own: what goes there is in the table of slots.
    Slots,
}

pub(super) fn region(listed: &Listed) -> Region {
    match listed.names()[..] {
        [] | [_] => Region::Root,
        [CLASSES, ..] => Region::Classes,
        ["HKLM", "SYSTEM", SET, "SERVICES", _, ..] => Region::Service,
        ["HKLM", "SOFTWARE"] | ["HKLM", "SYSTEM"] | ["HKU", USER] | ["HKU", USER, "SOFTWARE"] => Region::Root,
        ["HKLM", "SOFTWARE", name, ..] | ["HKU", USER, "SOFTWARE", name, ..] if !slots::is_reserved(name) => {
            Region::Own
        }
        _ => Region::Slots,
    }
}

/// Whether everybody's stand in one key: what is one program's there is in the table of slots.
pub(super) fn is_everybodys(listed: &Listed) -> bool {
    KEYS.over(&listed.parts).is_some_and(|(_, is_itself)| is_itself)
}

/// What the lists of Windows' own names say.
pub(super) fn by_name(listed: &Listed, shape: Shape<'_>) -> Result<(), &'static str> {
    match KEYS.over(&listed.parts) {
        Some((Own::Windows, _)) => Err(OF_WINDOWS),
        Some((Own::Shared, true)) if shape == Shape::Key => Err(OF_ALL),
        _ if shape == Shape::Key && KEYS.holds_any(&listed.parts) => Err(OF_ALL),
        _ => Ok(()),
    }
}

impl Permits<'_> {
    /// Whether a key, a value, an entry of a list or a count may go.
    pub(super) fn registry(&self, place: &Place) -> Result<Permit, &'static str> {
        let path = physical(&place.path, &self.survey.facts);
        let listed = Listed::read(&path);
        let shape = Shape::of(place);
        if listed.parts.len() < 2 || listed.parts.iter().any(String::is_empty) {
            return Err(ROOT);
        }
        if let Shape::Back(name) = shape {
            return self.set_back(&path, name);
        }
        if let Some(slot) = slots::override_of_user(&path, &listed).filter(|_| shape == Shape::Key) {
            return self.override_of_user(&path, slot);
        }
        by_name(&listed, shape)?;
        let region = region(&listed);
        if region == Region::Root {
            return Err(ROOT);
        }
        for slot in slots::over(&listed) {
            if let Some(answer) = self.slot(&path, &listed, slot, shape) {
                return answer;
            }
        }
        match region {
            Region::Own if is_everybodys(&listed) => Err(OF_ALL),
            Region::Own => Ok(Permit { what: "a publisher's own", caution: None }),
            Region::Classes => self.class(&path, &listed, shape),
            Region::Service => self.part_of_service(&path, &listed),
            Region::Slots | Region::Root => Err(OF_WINDOWS),
        }
    }

    /// What a slot says of a place in it; `None` if it says nothing of this shape.
    fn slot(
        &self,
        path: &str,
        listed: &Listed,
        slot: &'static Slot,
        shape: Shape<'_>,
    ) -> Option<Result<Permit, &'static str>> {
        if !slot.is_for(listed, shape) || slot.proof == Proof::Made {
            return None;
        }
        let permit = Permit { what: slot.what, caution: None };
        Some(self.proved(path, listed, slot, shape).map(|()| permit))
    }

    /// Whether what a slot asks for is seen in the unit.
    fn proved(&self, path: &str, listed: &Listed, slot: &Slot, shape: Shape<'_>) -> Result<(), &'static str> {
        let registry = &self.survey.registry;
        let key = listed.up_to(path, slot.depth()).and_then(|top| registry.key(top));
        let name = listed.parts.get(slot.depth() - 1).map(String::as_str).unwrap_or_default();
        let value = match shape {
            Shape::Value(name) | Shape::Count(name) | Shape::Entry(name, _) | Shape::Back(name) => Some(name),
            Shape::Key => None,
        };
        let err = |is_err: bool, why| if is_err { Err(why) } else { Ok(()) };
        match slot.proof {
            Proof::Free | Proof::Made => Ok(()),
            Proof::Leads | Proof::Handler => {
                let may_be_gone = slot.proof == Proof::Handler;
                self.by_leads(path, listed, slot.depth(), slot.what, may_be_gone).map(|_| ())
            }
            Proof::Listed => self.listed(key),
            Proof::Named => {
                let text = key.and_then(|key| registry.text(key, value.unwrap_or_default())).unwrap_or_default();
                let root = if listed.parts[0] == "HKU" { "HKU\\S-1-5-21" } else { "HKLM" };
                let named = Listed::read(&format!("{root}\\{}", text.trim_start_matches('\\')));
                let is_windows = KEYS.over(&named.parts).is_some_and(|(own, _)| own == Own::Windows)
                    || region(&named) == Region::Slots && slots::over(&named).next().is_none();
                err(is_windows, INTO_WINDOWS)
            }
            Proof::Apart => {
                if let Shape::Entry(_, entry) = shape
                    && slots::is_windows_ending(entry)
                {
                    return Err("Windows needs it");
                }
                let leads = match (shape, slot.takes) {
                    (Shape::Entry(_, entry), _) => self.leads(entry),
                    (_, Takes::Key) => key.map(|key| self.leads_below(key)).unwrap_or_default(),
                    _ => self.leads_of_value(key, value.unwrap_or_default()),
                };
                err(leads == Leads::WINDOWS, INTO_WINDOWS)
            }
            Proof::Class => {
                let Ok(id) = value.unwrap_or_default().trim().parse::<Guid>() else {
                    return Err("it is named after no class");
                };
                err(is_class(id) || self.leads_of_class(id, 0) == Leads::WINDOWS, INTO_WINDOWS)
            }
            Proof::Program => {
                // What a product has put before a program of Windows, such as another one that is started instead, goes.
                let is_put_there = value.is_some_and(|value| self.leads_of_value(key, value) == Leads::PROGRAM);
                err(!is_put_there && self.is_windows_program(name), "it is for a program of Windows")
            }
            Proof::Service => match shape {
                Shape::Entry(_, entry) => self.entry_of_service(entry),
                _ => Err(OF_WINDOWS),
            },
            Proof::File => self.file_of_printing(key, name),
            Proof::Library => {
                let Shape::Entry(_, entry) = shape else { return Err(OF_WINDOWS) };
                err(self.at(&self.library(entry)) != Leads::PROGRAM, INTO_WINDOWS)
            }
            Proof::Variable => {
                let name = value.unwrap_or_default();
                err(slots::is_windows_variable(name), "Windows needs it")?;
                err(self.leads_of_value(key, name) == Leads::WINDOWS, INTO_WINDOWS)
            }
            Proof::Firewall => self.firewall_rule(path, key, value.unwrap_or_default()),
        }
    }

    /// Where a value leads, by its data and by its name.
    fn leads_of_value(&self, key: Option<KeyId>, name: &str) -> Leads {
        let text = key.and_then(|key| self.survey.registry.text(key, name)).unwrap_or_default();
        let (by_data, by_name) = (self.leads(&text), self.leads(name));
        let program = by_data.program || by_name.program;
        Leads { windows: by_data.windows || by_name.windows && !program, program }
    }

    /// An entry in the list of programs that names one; Windows keeps a few that name nothing.
    fn listed(&self, key: Option<KeyId>) -> Result<(), &'static str> {
        let Some(key) = key else { return Ok(()) };
        let registry = &self.survey.registry;
        let above = registry.text(key, "ParentKeyName").map(|name| fold(&name));
        if above.as_deref() == Some("OPERATINGSYSTEM") {
            return Err("it is an update of Windows");
        }
        let is_named = registry.text(key, "DisplayName").is_some_and(|name| !name.is_empty());
        if is_named || registry.name(key).parse::<Guid>().is_ok() || self.leads_below(key).program {
            return Ok(());
        }
        Err(NOT_TOLD)
    }

    fn entry_of_service(&self, entry: &str) -> Result<(), &'static str> {
        if is_service(entry) {
            return Err("it names a service of Windows");
        }
        match self.service_why(entry) {
            Some(why) => Err(why),
            None => Ok(()),
        }
    }

    /// Ports, drivers and processors of printing name their libraries without a path.
    fn file_of_printing(&self, key: Option<KeyId>, name: &str) -> Result<(), &'static str> {
        let Some(key) = key else { return Ok(()) };
        let registry = &self.survey.registry;
        let file = registry.text(key, "Driver").unwrap_or_default();
        if file.is_empty() {
            return Err("nothing in it tells whose it is");
        }
        // Windows' own spooler and class drivers, by their files.
        const OWN: [&str; 13] = [
            "LOCALSPL.DLL",
            "TCPMON.DLL",
            "USBMON.DLL",
            "WSDMON.DLL",
            "FXSMON.DLL",
            "APMON.DLL",
            "WINPRINT.DLL",
            "MXDWDRV.DLL",
            "UNIDRV.DLL",
            "PSCRIPT5.DLL",
            "FXSDRV.DLL",
            "IPPMON.DLL",
            "APPMON.DLL",
        ];
        let leaf = fold(crate::model::path::leaf(&file));
        let is_own = OWN.contains(&leaf.as_str()) || name.starts_with("MICROSOFT") || leaf.starts_with("MSIPP");
        if is_own { Err(OF_WINDOWS) } else { Ok(()) }
    }

    fn firewall_rule(&self, path: &str, key: Option<KeyId>, name: &str) -> Result<(), &'static str> {
        let Some(text) = key.and_then(|key| self.survey.registry.text(key, name)) else { return Ok(()) };
        let program = FirewallRule::parse(path, name, &text).and_then(|rule| rule.program);
        let is_others = program.is_some_and(|program| self.leads(&program).program);
        if is_others { Ok(()) } else { Err("it is a rule of Windows") }
    }

    /// A key or value of a service goes if the service may.
    fn part_of_service(&self, path: &str, listed: &Listed) -> Result<Permit, &'static str> {
        let name = listed.up_to(path, 5).map(crate::model::path::leaf).unwrap_or_default();
        let set = fold(&self.survey.facts.control_set);
        let own = path.split('\\').nth(2).map(fold);
        // Another control set is Windows' way back; what may not go here may not go there.
        if own.as_deref() != Some(set.as_str()) {
            return Err("it is Windows' other control set");
        }
        self.service(name)
    }
}
