//! Where in the registry programs register themselves, and what of it goes when one is the subject's.

use crate::model::{Place, PlaceKind};
use crate::permits::slots::{self, Takes};
use crate::permits::spelling::{CLASSES, Listed};

pub use crate::permits::slots::{after_programs, holds_add_ins, is_class_holder, is_shell_class, lists};

/// A registration in a known location.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Location {
    /// The place that goes or stays as one.
    pub place: Place,
    /// How much of it goes.
    pub takes: Takes,
    /// What it is, for people.
    pub what: &'static str,
}

/// The part of a key's path below a root of classes, of the machine or of a user, with that root.
pub fn below_classes(key: &str) -> Option<(&str, &str)> {
    let listed = Listed::read(key);
    let is_below = listed.parts.first().is_some_and(|first| first == CLASSES) && listed.parts.len() > 1;
    let root = is_below.then(|| listed.up_to(key, 1)).flatten()?;
    Some((root, key.get(root.len() + 1..)?))
}

/// The known location that a key, or a value of it, lies in.
pub fn location(key: &str, value: Option<&str>) -> Option<Location> {
    let listed = Listed::read(key);
    slots::over(&listed).filter(|slot| slot.looked).find_map(|slot| {
        let own = listed.up_to(key, slot.depth())?;
        let place = match slot.takes {
            Takes::Key => Place::key(own),
            Takes::Value | Takes::History
                if own.len() == key.len() && value.is_some_and(|name| slot.may_name(name)) =>
            {
                Place::value(key, value.unwrap_or_default())
            }
            Takes::History => Place::key(own),
            Takes::Back if slots::is_users_class(key, &listed) => {
                slots::override_of_user(key, &listed)?;
                Place::key(key)
            }
            Takes::Back if own.len() == key.len() && value.is_some_and(|name| slot.may_name(name)) => {
                Place { kind: PlaceKind::WindowsValue, ..Place::value(key, value.unwrap_or_default()) }
            }
            _ => return None,
        };
        Some(Location { place, takes: slot.takes, what: slot.what })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn registrations_are_found_in_both_views_and_for_users() {
        let key = |path: &str, value| location(path, value).map(|one| (one.place.to_string(), one.takes));
        let classes = "HKLM\\SOFTWARE\\Classes";
        let class = format!("{classes}\\WOW6432Node\\CLSID\\{{1}}");
        assert_eq!(key(&format!("{class}\\InprocServer32"), Some("")), Some((class, Takes::Key)));
        let user = "HKU\\S-1-5-21-1_Classes\\AppID\\{2}";
        assert_eq!(key(user, None), Some((user.to_owned(), Takes::Key)));
        let menu = format!("{classes}\\*\\shellex\\ContextMenuHandlers\\Desk");
        assert_eq!(key(&menu, Some("")), Some((menu, Takes::Key)));
        let layers = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\AppCompatFlags\\Layers";
        assert_eq!(key(layers, Some("C:\\a.exe")), Some((format!("{layers} : C:\\a.exe"), Takes::Value)));
        assert_eq!(key(layers, None), None);
        assert_eq!(key("HKLM\\SOFTWARE\\Fennelgate", None), None);
    }

    #[test]
    fn what_lies_below_the_classes_is_split_off() {
        let split = below_classes("HKU\\S-1-5-21-1_Classes\\Desk.Document\\shell");
        assert_eq!(split, Some(("HKU\\S-1-5-21-1_Classes", "Desk.Document\\shell")));
        assert_eq!(below_classes("HKLM\\SOFTWARE\\Classes"), None);
        assert!(is_shell_class("directory") && !is_shell_class("Desk.Document"));
    }
}
