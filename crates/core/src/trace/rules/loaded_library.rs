use super::Rule;
use crate::model::path::plain;
use crate::model::{Place, list};
use crate::permits::library_of;
use crate::trace::{Claims, Evidence, Scene};

/// Entries in the lists of libraries that Windows loads into every program, or for those who sign in.
pub struct LoadedLibrary;

const SIGN_IN: [&str; 3] = ["Authentication Packages", "Security Packages", "Notification Packages"];

impl Rule for LoadedLibrary {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let facts = &scene.survey.facts;
        let registry = &scene.survey.registry;
        let lsa = format!("HKLM\\SYSTEM\\{}\\Control\\Lsa", facts.control_set);
        let everywhere = facts.software_views().into_iter().map(|view| {
            let key = format!("{view}\\Microsoft\\Windows NT\\CurrentVersion\\Windows");
            (key, &["AppInit_DLLs"][..], "every program loads")
        });
        let sign_in = [(format!("{lsa}\\OSConfig"), &SIGN_IN[..]), (lsa, &SIGN_IN[..])];
        let sign_in = sign_in.map(|(key, names)| (key, names, "Windows loads at each sign-in"));
        for (path, names, what) in everywhere.chain(sign_in) {
            let Some(key) = registry.key(&path) else { continue };
            for value in names.iter().filter_map(|name| registry.value(key, name)) {
                for entry in list::entries(value.name, value.kind, value.data) {
                    let library = plain(library_of(&entry).trim_matches('"'), &scene.survey.environment(None));
                    let file = match library.contains('\\') {
                        true => scene.survey.spelled_out(&library).into_owned(),
                        false => format!("{}\\System32\\{library}", facts.windows),
                    };
                    let Some(lead) = scene.lead(claims, &file) else { continue };
                    let text = format!("{what} {file}, {}", lead.words());
                    let place = Place::list_entry(registry.path(key), value.name, entry.as_str());
                    claims.add(place, Evidence::new(lead.rule("pointing"), text, Some(lead.place)));
                }
            }
        }
    }
}
