//! Which keys of classes may go whole, and which only one registration in them.

use super::leads::Leads;
use super::spelling::Listed;
use super::windows::{KEYS, Own, is_class};
use super::{INTO_WINDOWS, NOT_TOLD, OF_ALL, OF_WINDOWS, Permit, Permits, Shape, slots};
use crate::model::Guid;
use crate::model::text::fold;
use crate::survey::KeyId;

/// Subkeys of a file type that do not name a kind of document.
const PARTS_OF_TYPES: [&str; 9] = [
    "OPENWITHPROGIDS",
    "OPENWITHLIST",
    "SHELLEX",
    "PERSISTENTHANDLER",
    "SHELLNEW",
    "SHELL",
    "DEFAULTICON",
    "CLSID",
    "APPLICATIONS",
];

impl Permits<'_> {
    /// Whether a key of classes, or a value in one, may go.
    pub(super) fn class(&self, path: &str, listed: &Listed, shape: Shape<'_>) -> Result<Permit, &'static str> {
        self.whole_class(path, listed).or_else(|why| self.part_of_class(path, listed, shape).unwrap_or(Err(why)))
    }

    /// Whether the class that a key belongs to may go as a whole.
    fn whole_class(&self, path: &str, listed: &Listed) -> Result<Permit, &'static str> {
        let names: Vec<&str> = listed.names().split_off(1);
        let (depth, what) = match names[..] {
            [] => return Err(OF_ALL),
            ["CLSID", _, ..] => (3, "a class"),
            ["TYPELIB", _, ..] => (3, "a library of types"),
            ["INTERFACE", _, ..] => (3, "an interface"),
            ["APPID", _, ..] => (3, "a class's rights"),
            ["RECORD", _, ..] => (3, "a record of a library of types"),
            ["APPLICATIONS", _, ..] => (3, "a program to open files with"),
            [name, ..] if slots::is_class_holder(name) || slots::is_shell_class(name) => return Err(OF_ALL),
            [name, ..] if name.starts_with('.') => (2, "a file type"),
            _ => (2, "a kind of document or a class by name"),
        };
        match KEYS.over(&listed.parts) {
            Some((Own::Windows, _)) => return Err(OF_WINDOWS),
            Some((Own::Shared, true)) => return Err(OF_ALL),
            _ => {}
        }
        if KEYS.over(&listed.parts[..depth]).is_some_and(|(own, is_itself)| is_itself || own == Own::Windows) {
            return Err(OF_ALL);
        }
        let id = listed.parts[depth - 1].parse::<Guid>().ok();
        if id.is_some_and(is_class) {
            return Err(OF_WINDOWS);
        }
        let permit = Permit { what, caution: None };
        let Some(key) = listed.up_to(path, depth).and_then(|top| self.survey.registry.key(top)) else {
            return Ok(permit);
        };
        match self.made_by(names[0], key) {
            Leads { program: true, windows: false } => Ok(permit),
            Leads { program: true, windows: true } => match self.making(key) {
                Leads { program: true, .. } => Ok(permit),
                _ => Err(OF_ALL),
            },
            Leads { windows: true, .. } => Err(INTO_WINDOWS),
            Leads { .. } => Err(NOT_TOLD),
        }
    }

    /// Where a class leads, by what its kind is known by.
    fn made_by(&self, kind: &str, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let name = registry.name(key);
        match kind {
            "CLSID" => {
                let server = self.server_of(key, 0);
                if server == Leads::default() { self.leads_below(key) } else { server }
            }
            "INTERFACE" => self.leads_of_interface(key),
            "APPID" => {
                let by_name = match name.parse::<Guid>() {
                    Ok(_) => Leads::default(),
                    Err(_) => self.leads_of_file_name(name),
                };
                let own = self.leads_of_app(name);
                let classes = self.classes_of_app(name);
                own.and(classes).and(by_name)
            }
            _ if name.starts_with('.') => self.leads_of_type(key),
            _ => {
                let newest = registry.keys().child(key, "CurVer").and_then(|at| registry.text(at, ""));
                let newest = newest.map(|kind| self.leads_of_kind(&kind)).unwrap_or_default();
                self.leads_below(key).and(newest)
            }
        }
    }

    /// A file type is made by what opens it: the kinds of documents and the programs that it names.
    fn leads_of_type(&self, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let child = |name: &str| registry.keys().child(key, name);
        let mut found = self.leads_below(key);
        let offers =
            child("OpenWithProgids").map(|at| registry.values(at).map(|value| value.name.to_owned()).collect());
        let offers: Vec<String> = offers.unwrap_or_default();
        for kind in registry.text(key, "").into_iter().chain(offers).filter(|kind| !kind.is_empty()) {
            found = found.and(self.leads_of_kind(&kind));
        }
        for program in child("OpenWithList").into_iter().flat_map(|at| registry.keys().children(at)) {
            let is_windows = self.is_windows_program(registry.name(program));
            found = found.and(if is_windows { Leads::WINDOWS } else { Leads::PROGRAM });
        }
        found
    }

    /// Where a kind of document leads. One that is gone, and is none of Windows', was a program's.
    pub(super) fn leads_of_kind(&self, kind: &str) -> Leads {
        let listed = [super::spelling::CLASSES.to_owned(), fold(kind)];
        if KEYS.over(&listed).is_some_and(|(_, is_itself)| is_itself) {
            return Leads::WINDOWS;
        }
        let keys = self.class_roots.iter().map(|root| format!("{root}\\{kind}"));
        let keys: Vec<KeyId> = keys.filter_map(|path| self.survey.registry.key(&path)).collect();
        if keys.is_empty() {
            return Leads::PROGRAM;
        }
        keys.into_iter().map(|key| self.leads_below(key)).fold(Leads::default(), Leads::and)
    }

    /// Where that leads by which a class is made: its class, what opens it, what it looks like.
    fn making(&self, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let child = |at: KeyId, name: &str| registry.keys().child(at, name);
        let command = child(key, "shell").and_then(|at| child(at, "open")).and_then(|at| child(at, "command"));
        let made = [child(key, "CLSID"), command, child(key, "DefaultIcon")].into_iter().flatten();
        let made: Vec<Leads> = made.map(|at| self.leads_in(at)).filter(|leads| *leads != Leads::default()).collect();
        made.first().copied().unwrap_or_else(|| self.server_of(key, 0))
    }

    /// An interface is its library's of types, or its proxy's.
    fn leads_of_interface(&self, key: KeyId) -> Leads {
        let registry = &self.survey.registry;
        let named = |name: &str| registry.keys().child(key, name).and_then(|at| registry.text(at, ""));
        let library = named("TypeLib").map(|id| {
            let keys = self.class_keys("TypeLib", id.trim());
            let is_windows = id.trim().parse::<Guid>().is_ok_and(is_class);
            let start = if is_windows { Leads::WINDOWS } else { Leads::default() };
            keys.into_iter().map(|at| self.leads_below(at)).fold(start, Leads::and)
        });
        if let Some(library) = library.filter(|library| *library != Leads::default()) {
            return library;
        }
        named("ProxyStubClsid32").map(|id| self.leads(&id)).unwrap_or_default()
    }

    /// Where the classes lead that name an application's identifier.
    fn classes_of_app(&self, id: &str) -> Leads {
        let wanted = fold(id);
        let classes = self.app_classes().get(&wanted).map(Vec::as_slice).unwrap_or_default();
        classes.iter().map(|class| self.server_of(*class, 1)).fold(Leads::default(), Leads::and)
    }

    /// Where a file leads of which only the name is known: to the application's identifier that stands there.
    fn leads_of_file_name(&self, name: &str) -> Leads {
        let keys = self.class_keys("AppID", name);
        let id = keys.into_iter().find_map(|key| self.survey.registry.text(key, "AppID"));
        id.map(|id| {
            let own = self.leads_of_app(&id);
            if own == Leads::default() { self.classes_of_app(&id) } else { own }
        })
        .unwrap_or_default()
    }

    /// Whether one registration in another owner's class may be taken; `None` if the place is not such a registration.
    fn part_of_class(&self, path: &str, listed: &Listed, shape: Shape<'_>) -> Option<Result<Permit, &'static str>> {
        let names: Vec<&str> = listed.names().split_off(1);
        let at = |name: &str| names.iter().position(|part| *part == name).filter(|at| (1..4).contains(at));
        if KEYS.over(&listed.parts).is_some_and(|(own, _)| own == Own::Windows) {
            return Some(Err(OF_WINDOWS));
        }
        if names.first().is_some_and(|name| name.starts_with('.')) {
            return self.part_of_type(path, listed, shape);
        }
        let (depth, what) = match (at("SHELL"), at("SHELLEX")) {
            (Some(shell), _) if names.len() > shell + 1 => {
                if slots::is_windows_verb(names[shell + 1]) {
                    return Some(Err("Windows gives its own classes this verb"));
                }
                (shell + 3, "an entry of the shell's menus")
            }
            (None, Some(shellex)) => {
                // Several handlers stand in a key of that name, a single one in a key by its interface.
                let is_list = names.get(shellex + 1)?.ends_with("HANDLERS");
                let depth = shellex + if is_list { 4 } else { 3 };
                if listed.parts.len() < depth {
                    return None;
                }
                (depth, "an extension of the shell")
            }
            _ => match names[..] {
                ["CLSID", _, "INSTANCE", _, ..] => (5, "what is registered in a category"),
                _ => return None,
            },
        };
        Some(self.by_leads(path, listed, depth, what, at("SHELLEX").is_some()))
    }

    /// Whether a registration may go that has to lead to a program, or to a class, which may be gone.
    pub(super) fn by_leads(
        &self,
        path: &str,
        listed: &Listed,
        depth: usize,
        what: &'static str,
        may_be_gone: bool,
    ) -> Result<Permit, &'static str> {
        let permit = Permit { what, caution: None };
        let Some(key) = listed.up_to(path, depth).and_then(|top| self.survey.registry.key(top)) else {
            return Ok(permit);
        };
        match self.leads_below(key).and(self.leads(self.survey.registry.name(key))) {
            Leads { program: true, .. } => Ok(permit),
            Leads { windows: true, .. } => Err(INTO_WINDOWS),
            _ if may_be_gone && self.is_dangling(key) => Ok(permit),
            _ => Err(NOT_TOLD),
        }
    }

    /// Whether a registration names a class that is not there and is none of Windows'.
    fn is_dangling(&self, key: KeyId) -> bool {
        let registry = &self.survey.registry;
        let texts = [Some(registry.name(key).to_owned()), registry.text(key, "")];
        let ids = texts.into_iter().flatten().filter_map(|text| text.trim().parse::<Guid>().ok());
        ids.into_iter().any(|id| !is_class(id) && self.class_keys("CLSID", &id.to_string()).is_empty())
    }

    /// One registration of a file type that is Windows' or several programs'.
    fn part_of_type(&self, path: &str, listed: &Listed, shape: Shape<'_>) -> Option<Result<Permit, &'static str>> {
        let names: Vec<&str> = listed.names().split_off(1);
        let ok = |what| Ok(Permit { what, caution: None });
        let by_kind = |kind: &str, what| if self.is_windows_kind(kind) { Err(INTO_WINDOWS) } else { ok(what) };
        Some(match (&names[1..], shape) {
            ([], Shape::Value("")) => {
                let key = self.survey.registry.key(path)?;
                let kind = self.survey.registry.text(key, "")?;
                by_kind(&kind, "what opens a file type")
            }
            (["OPENWITHPROGIDS"], Shape::Value(kind)) if !kind.is_empty() => {
                by_kind(kind, "an offer to open a file type")
            }
            (["OPENWITHLIST", program, ..], _) => match self.is_windows_program(program) {
                true => Err(OF_WINDOWS),
                false => ok("an offer to open a file type"),
            },
            (["SHELLEX", _, ..], _) => self.by_leads(path, listed, 4, "an extension of the shell", true),
            ([kind, ..], _) if !PARTS_OF_TYPES.contains(kind) => by_kind(kind, "a kind of document"),
            _ => return None,
        })
    }

    /// Whether a kind of document is Windows' own: by its name, or by where all of it leads.
    fn is_windows_kind(&self, kind: &str) -> bool {
        kind.is_empty() || self.leads_of_kind(kind) == Leads::WINDOWS
    }

    /// Whether a file's name is that of a program of Windows.
    pub(super) fn is_windows_program(&self, name: &str) -> bool {
        let windows = &self.survey.facts.windows;
        let in_folder = |folder: &str| {
            let path = format!("{windows}{folder}\\{name}");
            self.survey.has_file(&path) && !self.is_others(&path)
        };
        let listed = vec![super::spelling::CLASSES.to_owned(), "APPLICATIONS".to_owned(), fold(name)];
        ["", "\\System32", "\\SysWOW64"].iter().any(|folder| in_folder(folder))
            || KEYS.over(&listed).is_some_and(|(_, is_itself)| is_itself)
            || super::windows::is_program(name)
    }
}
