use std::collections::BTreeMap;

use super::Rule;
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind, list};
use crate::packages::registered::uninstall_keys;
use crate::permits::slots::Takes;
use crate::survey::{KeyId, Registry};
use crate::trace::location::{
    Location, below_classes, holds_add_ins, is_class_holder, is_shell_class, lists, location,
};
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Registrations that lead to the subject, or name a class of it: anywhere in the registry where
/// programs register themselves.
pub struct Pointing;

/// Values of a key that say nothing of whose it is.
const SAYS_NOTHING: [&str; 4] = ["CONTENT TYPE", "PERCEIVEDTYPE", "FRIENDLYTYPENAME", "INFOTIP"];

impl Rule for Pointing {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let classes = Classes::of(scene, claims);
        let mut needles = scene.needles(claims);
        needles.extend(classes.0.values().map(|(name, _)| name.clone()));
        let registry = &scene.survey.registry;
        for (key, value) in scene.mentions(needles) {
            let seen = Seen { scene, claims, classes: &classes };
            let Some((text, from, is_gone)) = seen.reason(key, value) else { continue };
            let path = registry.path(key);
            let name = value.and_then(|number| registry.values(key).nth(number)).map(|value| value.name);
            let Some(found) = seen.registration(key, &path, name) else { continue };
            // What is known by itself alone is not known.
            if from.as_ref() == Some(&found.place) {
                continue;
            }
            let rule = match (found.takes, is_gone) {
                (Takes::History, _) => RuleId::History,
                (_, true) => RuleId::LeadGone,
                (_, false) => RuleId::Pointing,
            };
            let evidence = Evidence::new(rule, format!("{}: {text}", found.what), from);
            claims.add(found.place, evidence);
        }
    }
}

/// Whether a key is one of those with which add-ins register themselves with another program.
fn is_add_in(path: &str) -> bool {
    path.rsplit('\\').nth(1).is_some_and(holds_add_ins)
}

/// Identifiers and names of the subject's classes, by their folded form, as they are written and with
/// where each is from.
struct Classes(BTreeMap<String, (String, Place)>);

impl Classes {
    fn of(scene: &Scene<'_>, claims: &Claims) -> Self {
        let mut found = BTreeMap::new();
        for place in claims.of_kind(PlaceKind::Key) {
            let Some((_, rest)) = below_classes(&place.path) else { continue };
            let parts: Vec<&str> = rest.split('\\').collect();
            let own = match parts[..] {
                [kind, id] if ["CLSID", "TYPELIB", "APPID"].contains(&fold(kind).as_str()) => id,
                [name] if !name.starts_with('.') => name,
                _ => continue,
            };
            found.insert(fold(own), (own.to_owned(), place.clone()));
        }
        for code in scene.subject.codes(crate::subject::AnchorKind::ProductCode) {
            let code = code.to_string();
            found.insert(fold(&code), (code.clone(), Place::new(PlaceKind::Product, code)));
        }
        Self(found)
    }

    fn get(&self, name: &str) -> Option<&Place> {
        self.0.get(&fold(name)).map(|(_, place)| place)
    }
}

/// Where classes are registered for the whole machine.
const CLASSES: [&str; 2] = ["HKLM\\SOFTWARE\\Classes\\CLSID", "HKLM\\SOFTWARE\\Classes\\WOW6432Node\\CLSID"];

struct Seen<'s> {
    scene: &'s Scene<'s>,
    claims: &'s Claims,
    classes: &'s Classes,
}

impl Seen<'_> {
    fn registry(&self) -> &Registry {
        &self.scene.survey.registry
    }

    /// Why a key's name or a value of it speaks of the subject.
    fn reason(&self, key: KeyId, value: Option<usize>) -> Option<(String, Option<Place>, bool)> {
        let path = self.registry().path(key);
        let Some(number) = value else {
            let name = self.registry().name(key);
            let is_registration = || location(&path, None).is_some_and(|found| found.place.path.len() == path.len());
            let is_called = || self.scene.begins_with_subject(name) && !self.is_others_class(key);
            if (is_add_in(&path) || is_registration()) && is_called() {
                return Some((format!("it is called {name}, after the subject"), None, true));
            }
            let class = self.classes.get(name)?;
            return Some((format!("it is called {name}, like a class of the subject"), Some(class.clone()), false));
        };
        let value = self.registry().values(key).nth(number)?;
        if let Some(text) = value.text().filter(|text| self.scene.is_subject_name(text)) {
            // A class that is gone leads nowhere; it was approved under the product's name.
            if fold(&path).ends_with("\\SHELL EXTENSIONS\\APPROVED") && self.is_class_gone(value.name) {
                return Some((format!("it approves a class that is gone, under the name {text}"), None, true));
            }
        }
        let mut texts = vec![value.name.to_owned()];
        texts.extend(value.text());
        if texts.len() == 1 {
            texts.extend(list::entries(value.name, value.kind, value.data));
        }
        // Windows starts several programs by one value.
        if location(&path, Some(value.name)).is_some_and(|found| found.takes == Takes::Back) {
            texts.extend(value.text().iter().flat_map(|text| text.split(',')).map(str::to_owned));
        }
        texts.iter().find_map(|text| self.leads(text, &path))
    }

    /// Whether a registration names a class that is there and not the subject's.
    fn is_others_class(&self, key: KeyId) -> bool {
        let registry = self.registry();
        let named = registry.text(key, "").filter(|text| !text.is_empty()).or_else(|| registry.text(key, "CLSID"));
        let Some(code) = named.and_then(|text| text.parse::<Guid>().ok()) else { return false };
        CLASSES.iter().any(|root| {
            let class = format!("{root}\\{code}");
            registry.key(&class).is_some() && !self.claims.has(&Place::key(class))
        })
    }

    /// Whether a class is registered neither for the machine nor for a user.
    fn is_class_gone(&self, code: &str) -> bool {
        let users = self.scene.survey.facts.users.iter();
        let users = users.flat_map(|user| ["_Classes", "\\SOFTWARE\\Classes"].map(|end| user.hive() + end + "\\CLSID"));
        let mut roots = CLASSES.iter().map(|root| (*root).to_owned()).chain(users);
        code.parse::<Guid>().is_ok() && !roots.any(|root| self.registry().key(&format!("{root}\\{code}")).is_some())
    }

    /// Whether a kind of document of this name is registered, for the machine or for a user.
    fn is_kind(&self, name: &str) -> bool {
        let users = self.scene.survey.facts.users.iter().map(|user| format!("{}_Classes", user.hive()));
        let mut roots = std::iter::once("HKLM\\SOFTWARE\\Classes".to_owned()).chain(users);
        roots.any(|root| self.registry().key(&format!("{root}\\{name}")).is_some())
    }

    fn leads(&self, text: &str, key: &str) -> Option<(String, Option<Place>, bool)> {
        // A kind of document that is gone may still be named for its extension.
        let extension = below_classes(key).is_some_and(|(_, rest)| rest.starts_with('.'));
        if extension && self.scene.begins_with_subject(text.split('.').next().unwrap_or(text)) && !self.is_kind(text) {
            return Some((format!("it names {text}, a kind of document called after the subject"), None, true));
        }
        if let Some(class) = self.classes.get(text.trim()) {
            return Some((format!("it names {text}, a class of the subject"), Some(class.clone()), false));
        }
        // Some registrations name a key.
        if fold(text).starts_with("SOFTWARE\\") {
            let named = format!(
                "{}\\{text}",
                key.split('\\').take(if fold(key).starts_with("HKU\\") { 2 } else { 1 }).collect::<Vec<_>>().join("\\")
            );
            if let Some(own) = self.claims.key_over(&named) {
                return Some((format!("it leads to {named}, a key of the subject"), Some(own.clone()), false));
            }
            let is_called = text.split('\\').any(|part| self.scene.fit(part) == Some(NameFit::Full));
            return (is_called && self.registry().key(&named).is_none())
                .then(|| (format!("it leads to {named}, which is gone and called after the subject"), None, true));
        }
        // A value's name may be a path with something behind it.
        let path =
            text.strip_suffix(".FriendlyAppName").or_else(|| text.strip_suffix(".ApplicationCompany")).unwrap_or(text);
        let lead = self.scene.lead_of(self.claims, path, self.scene.user_of(key))?;
        Some((format!("it leads to {}, {}", lead.path, lead.words()), Some(lead.place), lead.is_gone))
    }

    /// What is registered there, as one place; `None` where it is no registration that we know.
    fn registration(&self, key: KeyId, path: &str, value: Option<&str>) -> Option<Location> {
        if let Some((root, rest)) = below_classes(path) {
            let name = rest.split('\\').next().unwrap_or(rest);
            let back = location(path, value).filter(|found| found.takes == Takes::Back);
            if let Some(found) = back.filter(|found| self.scene.permits.ask(&found.place).is_ok()) {
                return Some(found);
            }
            if name.starts_with('.') {
                return self.file_type(key, root, name, path, value);
            }
            if let Some(found) = location(path, value) {
                return self.unless_elsewhere(found).or_else(|| self.verb(root, rest));
            }
            if is_shell_class(name) || is_class_holder(name) {
                return self.verb(root, rest);
            }
            let place = Place::key(format!("{root}\\{name}"));
            let whole = Location { place, takes: Takes::Key, what: "a kind of document or a class by name" };
            return self.unless_elsewhere(whole).or_else(|| self.verb(root, rest));
        }
        if let Some(found) = location(path, value) {
            // The search path is a list, of which only an entry goes.
            let is_list = value.is_some_and(|name| lists().any(|list| fold(list) == fold(name)));
            let is_list = is_list && fold(path).ends_with("ENVIRONMENT");
            return if is_list { None } else { self.unless_elsewhere(found) };
        }
        self.add_in(path).or_else(|| self.settings(path))
    }

    /// A key that holds what leads to somebody else, too, or that may not go, is not the subject's.
    fn unless_elsewhere(&self, found: Location) -> Option<Location> {
        let is_key = found.takes == Takes::Key;
        let stays = || {
            let path = found.place.path.as_str();
            self.scene.permits.ask(&found.place).is_err() || self.leads_elsewhere(path) || self.has_dependents(path)
        };
        (!is_key || !stays()).then_some(found)
    }

    /// Whether a key of the installer's dependencies stands for another product than the subject, or for one on which
    /// somebody else depends who is still in a list of programs.
    fn has_dependents(&self, path: &str) -> bool {
        let is_provider = crate::model::path::parent(path).is_some_and(|above| fold(above).ends_with("\\DEPENDENCIES"));
        let Some(key) = self.registry().key(path).filter(|_| is_provider) else { return false };
        let product = self.registry().text(key, "").and_then(|id| id.parse::<Guid>().ok());
        let is_own = |id: Guid| {
            self.classes.get(&id.to_string()).is_some()
                || self.scene.subject.codes(crate::subject::AnchorKind::EarlierProduct).contains(&id)
        };
        let lists = uninstall_keys(self.scene.survey);
        let is_listed = |id: &str| lists.iter().any(|list| self.registry().key(&format!("{list}\\{id}")).is_some());
        // What is registered nowhere any more is the subject's by its name.
        let is_there = |id: Guid| self.scene.registered.products.contains_key(&id) || is_listed(&id.to_string());
        let is_named =
            || self.registry().text(key, "DisplayName").is_some_and(|name| self.scene.is_subject_name(&name));
        if product.is_some_and(|id| !is_own(id) && (is_there(id) || !is_named())) {
            return true;
        }
        let dependents = self.registry().subkeys(&format!("{path}\\Dependents")).into_iter();
        let mut names = dependents.map(|key| self.registry().name(key));
        names.any(|id| self.classes.get(id).is_none() && is_listed(id))
    }

    fn leads_elsewhere(&self, path: &str) -> bool {
        let Some(top) = self.registry().key(path) else { return false };
        let user = self.scene.user_of(path);
        self.registry().keys().below(top).into_iter().any(|key| {
            self.registry().values(key).any(|value| {
                let Some(text) = value.text().filter(|text| text.contains(":\\")) else { return false };
                let Some(program) = self.scene.program(&text, user) else { return false };
                let windows = crate::model::path::is_inside_or_same(&program, &self.scene.survey.facts.windows);
                !windows && self.scene.lead_of(self.claims, &text, user).is_none()
            })
        })
    }

    /// One verb of a class that is somebody else's.
    fn verb(&self, root: &str, rest: &str) -> Option<Location> {
        let parts: Vec<&str> = rest.split('\\').collect();
        let at = parts.iter().position(|part| fold(part) == "SHELL")?;
        let verb = parts.get(at + 1)?;
        let place = Place::key(format!("{root}\\{}\\{verb}", parts[..=at].join("\\")));
        self.unless_elsewhere(Location { place, takes: Takes::Key, what: "an entry of the shell's menus" })
    }

    /// Whether a program of this name lies in a folder of the subject, or lay in one that is gone.
    fn is_own_program(&self, name: &str) -> bool {
        let files = &self.scene.survey.files;
        let wanted = fold(name);
        let holds = |folder: &Place| {
            let below = files.find(&folder.path).map(|at| files.below(at)).unwrap_or_default();
            below.into_iter().any(|at| fold(files.name(at)) == wanted)
        };
        self.scene.begins_with_subject(name.split('.').next().unwrap_or(name)) || self.claims.folders().any(holds)
    }

    /// An extension: all of it, where nothing else is registered for it, else what names the subject.
    fn file_type(&self, key: KeyId, root: &str, name: &str, path: &str, value: Option<&str>) -> Option<Location> {
        let top = self.registry().key(&format!("{root}\\{name}"))?;
        let what = "a file type";
        let is_own = |key: KeyId| {
            // A program that is offered stands there by its name alone.
            let above = self.registry().name(self.registry().keys().parent(key));
            if fold(above) == "OPENWITHLIST" && !self.is_own_program(self.registry().name(key)) {
                return false;
            }
            self.registry().values(key).all(|value| {
                SAYS_NOTHING.contains(&fold(value.name).as_str())
                    || self.leads(value.name, path).is_some()
                    || value.text().is_some_and(|text| self.leads(&text, path).is_some())
            })
        };
        let whole = Place::key(self.registry().path(top));
        if self.scene.permits.ask(&whole).is_ok() && self.registry().keys().below(top).into_iter().all(is_own) {
            return Some(Location { place: whole, takes: Takes::Key, what });
        }
        match value {
            Some(name) => Some(Location { place: Place::value(path, name), takes: Takes::Value, what }),
            None => Some(Location { place: Place::key(self.registry().path(key)), takes: Takes::Key, what }),
        }
    }

    /// An add-in that another program loads, called after a class of the subject.
    fn add_in(&self, path: &str) -> Option<Location> {
        let parts: Vec<&str> = path.split('\\').collect();
        let at = parts.iter().position(|part| holds_add_ins(part))?;
        let name = parts.get(at + 1)?;
        let by_code = || name.parse::<Guid>().ok().and_then(|code| self.classes.get(&code.to_string()));
        let is_own = self.classes.get(name).or_else(by_code).is_some() || self.scene.begins_with_subject(name);
        if !is_own {
            return None;
        }
        let place = Place::key(parts[..=at + 1].join("\\"));
        Some(Location { place, takes: Takes::Key, what: "an add-in of another program" })
    }

    /// A key of settings under another publisher's name that is called after the subject.
    fn settings(&self, path: &str) -> Option<Location> {
        let software = fold(path).find("\\SOFTWARE\\")?;
        let below = path.get(software + "\\SOFTWARE\\".len()..)?;
        let skip = usize::from(fold(below).starts_with("WOW6432NODE\\"));
        let parts: Vec<&str> = below.split('\\').collect();
        if fold(parts.get(skip)?) == "MICROSOFT" {
            return None;
        }
        let at = (skip..parts.len().min(skip + 2)).find(|at| self.scene.fit(parts[*at]).is_some())?;
        let place = Place::key(format!("{}{}", &path[..software + "\\SOFTWARE\\".len()], parts[..=at].join("\\")));
        let found = Location { place, takes: Takes::Key, what: "settings called after the subject" };
        self.unless_elsewhere(found)
    }
}
