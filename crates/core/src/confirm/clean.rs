//! Is anything of the old left?

use std::collections::BTreeSet;

use super::Finding;
use crate::model::{Guid, Place, PlaceKind};
use crate::survey::{EntryKind, Survey};
use crate::trace::{Decision, Remnant, Trace};
use crate::units::network;

/// What a fresh trace still finds, without what the installer has put there since: `installed`
/// holds those places, folded, and `product` is the product that it installed.
pub fn clean(survey: &Survey, trace: &Trace, installed: &BTreeSet<Place>, product: Option<Guid>) -> Vec<Finding> {
    let old = |remnant: &&Remnant| remnant.decision != Decision::Keep && !is_new(survey, remnant, installed, product);
    trace
        .remnants
        .iter()
        .filter(old)
        .map(|remnant| {
            let advice = "`stubble plan` and `stubble clear` take it away.";
            Finding::new(remnant.place.clone(), "nothing", remnant.reason.clone(), advice)
        })
        .collect()
}

/// Whether the installer has put all of a remnant there.
fn is_new(survey: &Survey, remnant: &Remnant, installed: &BTreeSet<Place>, product: Option<Guid>) -> bool {
    let put = |place: &Place| installed.contains(&place.folded());
    match remnant.place.kind {
        // A setup program does not tell what it has the package installer install.
        PlaceKind::Product | PlaceKind::UpgradeCode => match product {
            Some(code) => code.to_string() == remnant.place.path,
            None => !remnant.parts.is_empty() && remnant.parts.iter().all(put),
        },
        PlaceKind::Service => put(&Place::key(format!("{}\\{}", survey.facts.services_key(), remnant.place.path))),
        PlaceKind::Driver | PlaceKind::Task | PlaceKind::StorePackage => {
            !remnant.parts.is_empty() && remnant.parts.iter().all(put)
        }
        PlaceKind::NetworkLayer => network::entries(survey, &remnant.place).into_iter().all(|layer| {
            let value = |name| put(&Place::value(layer.key.as_str(), name));
            put(&Place::key(layer.key.as_str())) || value("LibraryPath") || value("PackedCatalogItem")
        }),
        PlaceKind::Startup
        | PlaceKind::FirewallRule
        | PlaceKind::ListEntry
        | PlaceKind::SharedCount
        | PlaceKind::WindowsValue => put(&Place::value(remnant.place.path.as_str(), remnant.place.value_name())),
        PlaceKind::Shortcut => put(&Place::file(&remnant.place.path)),
        // A program that runs again was started from what is installed now.
        PlaceKind::Process => {
            survey.files.find(&remnant.place.path).is_some_and(|_| put(&Place::file(&remnant.place.path)))
        }
        PlaceKind::Folder => survey.files.find(&remnant.place.path).is_some_and(|at| {
            survey.files.below(at).into_iter().all(|node| {
                survey.files.data(node).kind == EntryKind::Folder || put(&Place::file(survey.files.path(node)))
            })
        }),
        PlaceKind::File | PlaceKind::Key | PlaceKind::Value => put(&remnant.place),
    }
}
