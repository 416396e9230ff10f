//! What a running Windows changes by itself.

use std::sync::LazyLock;

use serde::Deserialize;

use crate::model::Place;
use crate::survey::Facts;

#[derive(Deserialize)]
struct Table {
    folder: Vec<String>,
    key: Vec<String>,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/restless.toml")).expect("the table is tested"));

/// Places that the running system changes at any time, on this machine.
pub fn restless(facts: &Facts) -> Vec<Place> {
    let environments = std::iter::once(None).chain(facts.users.iter().map(Some)).map(|user| facts.environment(user));
    let folders = environments.flat_map(|environment| {
        let expanded = TABLE.folder.iter().map(move |folder| environment.expand(folder));
        expanded.collect::<Vec<String>>()
    });
    let own = facts.windows.get(..2).unwrap_or("C:");
    let drives: Vec<&str> = std::iter::once(own).chain(facts.other_drives.iter().map(String::as_str)).collect();
    // What is another user's variable stays as it is.
    let folders = folders.filter(|folder| !folder.contains('%'));
    let folders = folders.flat_map(|folder| match folder.contains("{drive}") {
        true => drives.iter().map(|drive| folder.replace("{drive}", drive)).collect(),
        false => vec![folder],
    });
    let folders = folders.map(Place::folder);
    let users: Vec<String> = facts.users.iter().map(|user| user.hive()).collect();
    let keys = TABLE.key.iter().flat_map(|key| {
        let key = key.replace("{set}", &facts.control_set);
        match key.contains("{user}") {
            true => users.iter().map(|user| key.replace("{user}", user)).collect(),
            false => vec![key],
        }
    });
    folders.chain(keys.map(Place::key)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::survey::User;

    #[test]
    fn each_user_has_restless_places_and_no_variable_is_left() {
        let user = |name: &str| User {
            name: name.into(),
            sid: format!("S-1-5-21-{name}"),
            profile: format!("C:\\Users\\{name}"),
            folders: Default::default(),
        };
        let facts = Facts {
            windows: "C:\\Windows".into(),
            control_set: "ControlSet001".into(),
            users: vec![user("maren"), user("night-shift")],
            other_drives: vec!["D:".into()],
            ..Facts::default()
        };
        let paths: Vec<String> = restless(&facts).into_iter().map(|place| place.path).collect();
        assert!(paths.contains(&"C:\\Users\\night-shift\\AppData\\Local\\Temp".to_owned()), "{paths:?}");
        assert!(paths.contains(&"HKLM\\SYSTEM\\ControlSet001\\Control\\Video".to_owned()));
        assert!(["C", "D"].iter().all(|drive| paths.contains(&format!("{drive}:\\$Recycle.Bin"))), "{paths:?}");
        assert!(paths.iter().all(|path| !path.contains(['%', '{'])), "{paths:?}");
    }
}
