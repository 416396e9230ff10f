//! Checks the places in the record of an earlier removal.
//!
//! A record may be forged, and the evidence of who owned a place is gone with the place. So the check uses the names of
//! the places alone: a place that no step could have taken is neither restored nor removed.

use super::keys::Region;
use super::slots;
use super::spelling::{CLASSES, Listed, SET, USER, physical};
use super::{OF_ALL, OF_WINDOWS, Shape, ground, keys, unit_why, windows};
use crate::model::path::{is_inside_or_same, leaf, parent};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::Facts;
use crate::units::network;

const NO_PART: &str = "it is not a part of what the step took";

/// Returns why no step could have taken a place, or `None` if one could.
///
/// `of` is the place of the step: the parts of a unit lie among Windows' own places. Values of loans belong to no step;
/// [`may_set`](crate::loans::may_set) checks those.
pub fn why(of: &Place, place: &Place, facts: &Facts) -> Option<&'static str> {
    match of.kind {
        PlaceKind::Product | PlaceKind::UpgradeCode | PlaceKind::Driver | PlaceKind::Task | PlaceKind::StorePackage => {
            unit_why(of).or_else(|| (!is_part(of.kind, place, facts)).then_some(NO_PART))
        }
        PlaceKind::NetworkLayer if is_layer(place, facts) => None,
        PlaceKind::NetworkLayer => Some(NO_PART),
        _ => alone(place, facts),
    }
}

/// The same for a place that stands for itself.
fn alone(place: &Place, facts: &Facts) -> Option<&'static str> {
    match place.kind {
        PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => {
            let installer = format!("{}\\Installer", facts.windows);
            let is_kept = is_inside_or_same(&place.path, &installer) && place.path.len() > installer.len();
            match is_kept || is_driver_file(&place.path, facts) {
                true => None,
                false => ground::of(&place.path, facts).why(),
            }
        }
        PlaceKind::Service if windows::is_service(&place.path) => Some("it is a service of Windows"),
        PlaceKind::Key | PlaceKind::ListEntry | PlaceKind::SharedCount => in_registry(place, facts),
        kind if kind.is_value() => in_registry(place, facts),
        PlaceKind::WindowsValue if slots::back(&place.path, place.value_name(), facts).is_none() => Some(OF_WINDOWS),
        _ => None,
    }
}

fn in_registry(place: &Place, facts: &Facts) -> Option<&'static str> {
    let listed = Listed::read(&physical(&place.path, facts));
    let shape = Shape::of(place);
    if listed.parts.iter().any(String::is_empty) {
        return Some(keys::ROOT);
    }
    if shape == Shape::Key && slots::override_of_user(&place.path, &listed).is_some() {
        return None;
    }
    if let Err(why) = keys::by_name(&listed, shape) {
        return Some(why);
    }
    let is_slot = || slots::over(&listed).any(|slot| slot.is_for(&listed, shape));
    match keys::region(&listed) {
        Region::Root => Some(keys::ROOT),
        Region::Slots if !is_slot() => Some(OF_WINDOWS),
        Region::Own if !is_slot() && keys::is_everybodys(&listed) => Some(OF_ALL),
        Region::Service if !is_slot() && windows::is_service(&listed.parts[4]) => Some("it is a service of Windows"),
        Region::Slots | Region::Own | Region::Service | Region::Classes => None,
    }
}

/// Whether a place is where the parts of such a unit lie.
fn is_part(unit: PlaceKind, place: &Place, facts: &Facts) -> bool {
    if !matches!(place.kind, PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut) {
        return is_part_key(unit, &Listed::read(&physical(&place.path, facts)));
    }
    let is_below = |folder: &str| {
        let folder = format!("{}\\{folder}", facts.windows);
        is_inside_or_same(&place.path, &folder) && place.path.len() > folder.len()
    };
    match unit {
        PlaceKind::Product | PlaceKind::UpgradeCode => is_below("Installer"),
        PlaceKind::Driver => {
            (is_below("INF") || is_below("System32\\catroot")) && fold(leaf(&place.path)).starts_with("OEM")
                || is_below("System32\\DriverStore\\FileRepository")
                || is_driver_file(&place.path, facts)
        }
        PlaceKind::Task => is_below("System32\\Tasks") && !is_below("System32\\Tasks\\Microsoft\\Windows"),
        PlaceKind::StorePackage => facts.program_folders().iter().any(|folder| {
            parent(&place.path).is_some_and(|above| fold(above) == fold(&format!("{folder}\\WindowsApps")))
        }),
        _ => false,
    }
}

fn is_part_key(unit: PlaceKind, listed: &Listed) -> bool {
    let names = listed.names();
    const WINDOWS: [&str; 5] = ["HKLM", "SOFTWARE", "MICROSOFT", "WINDOWS", "CURRENTVERSION"];
    let in_windows = names.strip_prefix(&WINDOWS).unwrap_or_default();
    match unit {
        PlaceKind::Product | PlaceKind::UpgradeCode => matches!(
            (in_windows, &names[..]),
            (["INSTALLER", _, _, ..] | ["UNINSTALL", _, ..], _)
                | (_, [CLASSES, "INSTALLER", _, _, ..])
                | (_, ["HKU", USER, "SOFTWARE", "MICROSOFT", "INSTALLER", _, _, ..])
                | (
                    _,
                    [
                        "HKU",
                        USER,
                        "SOFTWARE",
                        "MICROSOFT",
                        "WINDOWS",
                        "CURRENTVERSION",
                        "INSTALLER" | "UNINSTALL",
                        _,
                        ..
                    ]
                )
        ),
        PlaceKind::Driver => matches!(
            names[..],
            ["HKLM", "SYSTEM" | "DRIVERS", "DRIVERDATABASE", _, _, ..]
                | ["HKLM", "SYSTEM", SET, "ENUM", _, _, _, ..]
                | ["HKLM", "SYSTEM", SET, "CONTROL", "CLASS", _, _, ..]
        ),
        PlaceKind::Task => matches!(
            names[..],
            ["HKLM", "SOFTWARE", "MICROSOFT", "WINDOWS NT", "CURRENTVERSION", "SCHEDULE", "TASKCACHE", _, _, ..]
        ),
        PlaceKind::StorePackage => {
            let is_listed = matches!(in_windows, ["APPX", "APPXALLUSERSTORE", _, _, ..]);
            is_listed || names[0] == CLASSES && names.get(names.len().saturating_sub(2)) == Some(&"PACKAGES")
        }
        _ => false,
    }
}

/// Whether a file may be one that a driver's setup has put among the system's: none that Windows itself has there.
fn is_driver_file(path: &str, facts: &Facts) -> bool {
    let system = format!("{}\\System32", facts.windows);
    let drivers = format!("{system}\\drivers");
    let name = fold(leaf(path));
    let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
    let above = parent(path).map(fold);
    let is_program = name.ends_with(".SYS") || name.ends_with(".EXE");
    let lies_there =
        is_inside_or_same(path, &drivers) && path.len() > drivers.len() || above == Some(fold(&system)) && is_program;
    lies_there && !windows::is_service(stem) && !windows::is_program(&name)
}

/// Whether a key or value is a list of network layers, one of its entries, or its count.
fn is_layer(place: &Place, facts: &Facts) -> bool {
    let listed = Listed::read(&physical(&place.path, facts));
    let ["HKLM", "SYSTEM", SET, "SERVICES", "WINSOCK2", "PARAMETERS", catalog, ref below @ ..] = listed.names()[..]
    else {
        return false;
    };
    let is_list = below.first().is_some_and(|list| network::LISTS.iter().any(|own| fold(own) == *list));
    let is_catalog = network::CATALOGS.iter().any(|own| fold(own) == catalog);
    is_catalog && (is_list || place.kind.is_value() && below.is_empty())
}
