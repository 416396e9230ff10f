//! Which services may go: those with a program that is not Windows' own.

use super::leads::Leads;
use super::{Permit, Permits, windows};
use crate::model::path::{is_inside_or_same, leaf, plain, program_of};
use crate::model::text::fold;
use crate::model::{host, list};
use crate::survey::{Gap, KeyId};
use crate::units;
use crate::units::network::BOUND;

/// Kinds of services by their `Type`, as `CreateService` documents them.
const KERNEL_DRIVER: u32 = 1;
const FILE_SYSTEM_DRIVER: u32 = 2;

/// `Start` of what the boot loader loads.
const AT_BOOT: u32 = 0;

/// Groups of drivers that Windows loads before it can load others, folded.
const BOOT_GROUPS: [&str; 6] =
    ["BOOT BUS EXTENDER", "SYSTEM BUS EXTENDER", "SCSI MINIPORT", "BOOT FILE SYSTEM", "BASE", "PRIMARY DISK"];

impl Permits<'_> {
    /// Whether a service may go.
    pub(super) fn service(&self, name: &str) -> Result<Permit, &'static str> {
        if let Some(why) = self.service_why(name) {
            return Err(why);
        }
        Ok(Permit { what: "a service", caution: self.caution_of(name) })
    }

    /// Why a service is never taken.
    pub(super) fn service_why(&self, name: &str) -> Option<&'static str> {
        if fold(name) == "WINSOCK2" {
            return Some("Windows' network works by it");
        }
        if windows::is_service(name) {
            return Some("it is a service of Windows");
        }
        if self.is_bound(|component| fold(&component.service) == fold(name)) {
            return Some(BOUND);
        }
        let key = self.service_key(name)?;
        match self.program_of_service(key) {
            Some(program) => self.program_why(&program),
            None => match self.leads_below(key) {
                Leads { program: true, windows: false } => None,
                _ => Some("nothing tells what program it runs"),
            },
        }
    }

    /// The key of a service in the control set in force.
    fn service_key(&self, name: &str) -> Option<KeyId> {
        self.survey.registry.key(&format!("{}\\{name}", self.survey.facts.services_key()))
    }

    /// The file that a service runs, as Windows finds it; `None` if it names none.
    ///
    /// A driver without a path is `System32\drivers\NAME.sys`. A service in a host of Windows names a library in
    /// `ServiceDll`; one in a host of another kind, its program in `Parameters` or among the host's arguments.
    pub fn program_of_service(&self, key: KeyId) -> Option<String> {
        let survey = self.survey;
        let registry = &survey.registry;
        let environment = survey.environment(None);
        let exists = |path: &str| survey.has_file(path);
        let Some(command) = registry.text(key, "ImagePath").filter(|text| !text.trim().is_empty()) else {
            let kind = registry.value(key, "Type").and_then(|value| value.dword())?;
            let file = format!("{}\\System32\\drivers\\{}.sys", survey.facts.windows, registry.name(key));
            return matches!(kind, KERNEL_DRIVER | FILE_SYSTEM_DRIVER).then_some(file);
        };
        let program = program_of(&command, &environment, &exists)?;
        let is_windows = is_inside_or_same(&program, &survey.facts.windows);
        if !is_windows {
            return Some(program);
        }
        let parameters = registry.keys().child(key, "Parameters");
        let named = |at: KeyId, name: &str| registry.text(at, name).filter(|text| !text.trim().is_empty());
        if fold(leaf(&program)) == "SVCHOST.EXE" {
            let library = parameters.and_then(|at| named(at, "ServiceDll")).or_else(|| named(key, "ServiceDll"));
            return library.map(|text| plain(text.trim_matches('"'), &environment));
        }
        let application = parameters.and_then(|at| named(at, "Application"));
        if let Some(other) = application.and_then(|text| program_of(&text, &environment, &exists)) {
            return Some(other);
        }
        let is_host = host::is_host(&program);
        let argument = is_host.then(|| host::arguments(&command).into_iter().next()).flatten();
        Some(argument.map(|path| plain(&path, &environment)).unwrap_or(program))
    }

    /// Why a service's program keeps the service; `None` if it is a program's, or gone from where drivers are.
    fn program_why(&self, program: &str) -> Option<&'static str> {
        let survey = self.survey;
        let program = survey.spelled_out(program);
        let program = program.as_ref();
        if !is_inside_or_same(program, &survey.facts.windows) {
            return match super::ground::of(program, &survey.facts) {
                super::ground::Ground::Windows => Some("its program belongs to Windows"),
                _ => None,
            };
        }
        // A driver that is gone drives nothing, Windows' own least of all.
        let folder = format!("{}\\System32\\drivers", survey.facts.windows);
        let unseen = |gap: &Gap| is_inside_or_same(&gap.what, &folder) || is_inside_or_same(&folder, &gap.what);
        let are_there = || {
            let all_seen = !survey.gaps.iter().any(unseen);
            all_seen && survey.files.find(&folder).is_some_and(|at| survey.files.children(at).next().is_some())
        };
        if is_inside_or_same(program, &folder) && !survey.exists(program) && are_there() {
            return None;
        }
        // What a driver package has put among the system's drivers is not the system's.
        let is_brought = units::drivers::bringing(survey, self.drivers(), program).is_some()
            || is_inside_or_same(program, &folder) && self.is_others(program);
        (!is_brought).then_some("its program belongs to Windows")
    }

    /// Why a person is asked before a service goes: the boot loader loads it, it must be there before other drivers,
    /// or Windows itself has a driver of this name.
    pub(super) fn caution_of(&self, name: &str) -> Option<&'static str> {
        let registry = &self.survey.registry;
        let key = self.service_key(name)?;
        let at_boot = registry.value(key, "Start").and_then(|value| value.dword()) == Some(AT_BOOT);
        let group = registry.text(key, "Group").is_some_and(|group| BOOT_GROUPS.contains(&fold(&group).as_str()));
        if at_boot || group {
            return Some("Windows starts by it, or by drivers of its group");
        }
        windows::is_driver_of_maker(name).then_some("Windows comes with a driver of this name")
    }

    /// Where a service leads, by its program.
    pub(super) fn leads_of_service(&self, name: &str) -> Leads {
        if windows::is_service(name) {
            return Leads::WINDOWS;
        }
        let program = self.service_key(name).and_then(|key| self.program_of_service(key));
        match program {
            Some(program) if self.program_why(&program).is_none() => Leads::PROGRAM,
            Some(_) => Leads::WINDOWS,
            None => Leads::default(),
        }
    }

    /// Services that name this one as what they depend on, by their names.
    pub fn dependents_of(&self, name: &str) -> Vec<String> {
        let registry = &self.survey.registry;
        let wanted = fold(name);
        let depends = |key: &KeyId| {
            let value = registry.value(*key, "DependOnService");
            let on = value.map(|value| list::entries(value.name, value.kind, value.data)).unwrap_or_default();
            on.iter().any(|one| fold(one) == wanted)
        };
        let all = registry.subkeys(&self.survey.facts.services_key());
        all.into_iter().filter(depends).map(|key| registry.name(key).to_owned()).collect()
    }
}
