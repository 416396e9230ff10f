//! Where what stands in a registration leads: into Windows, to a program, or nowhere that can be told.

use super::{Permits, ground};
use crate::model::host::{arguments, is_host};
use crate::model::path::{is_inside_or_same, leaf, parent, plain, program_of};
use crate::model::text::fold;
use crate::model::{Guid, list};
use crate::survey::KeyId;

/// What a registration leads to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Leads {
    /// Something in it leads into Windows.
    pub windows: bool,
    /// Something in it leads to a place where programs are.
    pub program: bool,
}

impl Leads {
    /// What leads to a program alone.
    pub const PROGRAM: Self = Self { windows: false, program: true };
    /// What leads into Windows alone.
    pub const WINDOWS: Self = Self { windows: true, program: false };

    /// Both together.
    pub(super) fn and(self, other: Self) -> Self {
        Self { windows: self.windows || other.windows, program: self.program || other.program }
    }
}

impl Permits<'_> {
    /// Where a text leads: a path, a command line, a host with what it runs, an icon with its number, or the
    /// identifier of a class.
    pub(super) fn leads(&self, text: &str) -> Leads {
        let text = text.trim();
        if let Ok(id) = text.parse::<Guid>() {
            return self.leads_of_class(id, 0);
        }
        // A resource's text, and a class's code as an address.
        let text = text.strip_prefix('@').unwrap_or(text);
        let unescaped = text.strip_prefix("file:///").map(|path| path.replace('/', "\\"));
        let text = unescaped.as_deref().unwrap_or(text);
        let survey = self.survey;
        let environment = survey.environment(None);
        let expanded = environment.expand(text);
        if !expanded.contains(['\\', '/']) {
            let is_file = [".DLL", ".EXE", ".SYS", ".OCX", ".CPL", ".DRV", ".AX"];
            let folded = fold(text.split([',', ' ']).next().unwrap_or(text));
            // A bare name is looked for in Windows' own folders first.
            return match is_file.iter().any(|end| folded.ends_with(end)) {
                true => self.by_name(text),
                false => Leads::default(),
            };
        }
        let whole = plain(text.trim_matches('"'), &environment);
        let file = match whole.rsplit_once(',') {
            Some((file, number)) if number.trim().parse::<i32>().is_ok() => file.trim_matches('"').to_owned(),
            _ => whole.clone(),
        };
        let exists = |path: &str| survey.has_file(path);
        let program = if survey.has_file(&file) { Some(file.clone()) } else { program_of(text, &environment, &exists) };
        let Some(program) = program else { return Leads::default() };
        if is_host(&program) || is_runner(&program) {
            let told = arguments(text).into_iter().map(|path| self.at(&plain(&path, &environment)));
            return told.fold(Leads::default(), Leads::and);
        }
        self.at(&program)
    }

    /// The file of an entry in a list of libraries: a bare name is in Windows' folder, with or without `.dll`.
    pub fn library(&self, entry: &str) -> String {
        let path = plain(entry.trim_matches('"'), &self.survey.environment(None));
        if path.contains('\\') {
            return self.survey.spelled_out(&path).into_owned();
        }
        let end = if path.contains('.') { "" } else { ".dll" };
        format!("{}\\System32\\{path}{end}", self.survey.facts.windows)
    }

    /// Where a file lies.
    pub(super) fn at(&self, path: &str) -> Leads {
        let path = self.survey.spelled_out(path);
        let bytes = path.as_bytes();
        if bytes.len() < 4 || bytes[1] != b':' || bytes[2] != b'\\' {
            return match path.contains('\\') {
                true => Leads::default(),
                false => self.by_name(&path),
            };
        }
        // What the package installer keeps for a product, such as its icon, leads to that product.
        let installer = format!("{}\\Installer", self.survey.facts.windows);
        if is_inside_or_same(&path, &installer) && path.len() > installer.len() {
            return Leads::PROGRAM;
        }
        match ground::of(&path, &self.survey.facts) {
            ground::Ground::Program => Leads::PROGRAM,
            ground::Ground::Person => Leads::default(),
            ground::Ground::Windows if self.is_others(&path) => Leads::PROGRAM,
            // A folder that all share says nothing.
            ground::Ground::Shared(_) => Leads::default(),
            ground::Ground::Windows => Leads::WINDOWS,
        }
    }

    /// A file named without its folder: Windows' own, unless it is there and says that somebody else made it.
    fn by_name(&self, name: &str) -> Leads {
        let name = name.split([',', ' ']).next().unwrap_or(name).trim_matches('"');
        let windows = &self.survey.facts.windows;
        let folders = ["System32", "SysWOW64", "System32\\drivers"];
        let mut paths = folders.iter().map(|folder| format!("{windows}\\{folder}\\{name}"));
        match paths.any(|path| self.is_others(&path)) {
            true => Leads::PROGRAM,
            false => Leads::WINDOWS,
        }
    }

    /// Whether a file says that somebody else than Windows' maker made it.
    pub(super) fn is_others(&self, file: &str) -> bool {
        let maker = self.survey.version_of(file).map(|version| version.company.to_lowercase()).unwrap_or_default();
        !maker.is_empty() && !maker.contains("microsoft")
    }

    /// Where all values of a key and of what lies below it lead.
    pub(super) fn leads_below(&self, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let mut found = Leads::default();
        for at in registry.keys().below(key) {
            found = found.and(self.leads_in(at));
        }
        found
    }

    /// Where the values of this very key lead.
    pub(super) fn leads_in(&self, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let mut found = Leads::default();
        for value in registry.values(key) {
            let texts = match value.text() {
                Some(text) => vec![text],
                None => list::entries(value.name, value.kind, value.data),
            };
            for text in texts.iter().map(String::as_str).chain([value.name]) {
                found = found.and(self.leads(text));
            }
        }
        found
    }

    /// Where a class leads, by its servers; one that is not registered leads nowhere.
    pub(super) fn leads_of_class(&self, id: Guid, depth: usize) -> Leads {
        if super::windows::is_class(id) {
            return Leads::WINDOWS;
        }
        // A class that treats another as itself, and so on in a circle.
        if depth > 4 {
            return Leads::default();
        }
        let keys = self.class_keys("CLSID", &id.to_string());
        keys.into_iter().map(|key| self.server_of(key, depth)).fold(Leads::default(), Leads::and)
    }

    /// Where the servers of a class's key lead.
    pub(super) fn server_of(&self, class: KeyId, depth: usize) -> Leads {
        const SERVERS: [&str; 6] =
            ["InprocServer32", "LocalServer32", "InprocHandler32", "InprocServer", "LocalServer", "InprocHandler"];
        let registry = &self.survey.registry;
        let mut found = Leads::default();
        for server in SERVERS.iter().filter_map(|name| registry.keys().child(class, name)) {
            // Managed code is named beside its host; a version stands in a key of its own.
            let below = registry.keys().below(server).into_iter();
            let code = below.filter_map(|key| registry.text(key, "CodeBase")).map(|text| self.leads(&text));
            let code = code.fold(Leads::default(), Leads::and);
            let command = registry.text(server, "").or_else(|| registry.text(server, "ServerExecutable"));
            found =
                found.and(if code.program { code } else { command.map(|text| self.leads(&text)).unwrap_or_default() });
        }
        for treated in ["TreatAs", "AutoTreatAs"].iter().filter_map(|name| registry.keys().child(class, name)) {
            let other = registry.text(treated, "").and_then(|text| text.parse::<Guid>().ok());
            found = found.and(other.map(|id| self.leads_of_class(id, depth + 1)).unwrap_or_default());
        }
        if found == Leads::default()
            && let Some(id) = registry.text(class, "AppID")
        {
            found = self.leads_of_app(&id);
        }
        found
    }

    /// Where what serves an application's identifier leads: its service, or the program it is named after.
    pub(super) fn leads_of_app(&self, id: &str) -> Leads {
        let registry = &self.survey.registry;
        let of = |key: KeyId| match registry.text(key, "LocalService") {
            Some(service) => self.leads_of_service(&service),
            None => registry.text(key, "DllSurrogate").map(|text| self.leads(&text)).unwrap_or_default(),
        };
        self.class_keys("AppID", id).into_iter().map(of).fold(Leads::default(), Leads::and)
    }

    /// Keys of a kind of classes with this name: for the machine and for its users, in both views.
    pub(super) fn class_keys(&self, kind: &str, name: &str) -> Vec<KeyId> {
        let keys = self.class_roots.iter().map(|root| format!("{root}\\{kind}\\{name}"));
        keys.filter_map(|path| self.survey.registry.key(&path)).collect()
    }
}

/// Whether a program of Windows runs another one for it, or serves what others register with it.
fn is_runner(program: &str) -> bool {
    const RUNNERS: [&str; 8] = [
        "MSIEXEC.EXE",
        "SVCHOST.EXE",
        "MSCOREE.DLL",
        "SRVANY.EXE",
        "SC.EXE",
        "PRINTUI.DLL",
        "CONTROL.EXE",
        "CONHOST.EXE",
    ];
    let name = fold(leaf(program));
    RUNNERS.contains(&name.as_str()) && parent(program).is_none_or(|folder| fold(folder).contains("\\WINDOWS"))
}
