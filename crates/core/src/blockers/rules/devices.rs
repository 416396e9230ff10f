use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind, list};
use crate::survey::KeyId;
use crate::units::drivers::{DATABASES, instances, used_by};

/// Bit of a device's `ConfigFlags`, as Microsoft publishes it: installing its driver failed.
const FAILED: u32 = 0x40;

/// Devices that the subject's driver is made for and that have none, or another's: the product does not reach
/// them. Whether one is connected now is not looked at.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let registry = &survey.registry;
    let drivers = situation.trace.remnants.iter().filter(|one| one.place.kind == PlaceKind::Driver);
    let own: Vec<String> = drivers.map(|one| fold(&one.place.path)).collect();
    if own.is_empty() {
        return Vec::new();
    }
    let mut found = Vec::new();
    for instance in instances(survey) {
        let Some((inf, id)) = known_to(situation, instance, &own) else { continue };
        let name = registry.text(instance, "FriendlyName").or_else(|| registry.text(instance, "DeviceDesc"));
        // Names from a resource stand behind a semicolon.
        let name = name.and_then(|name| name.rsplit(';').next().map(str::to_owned)).unwrap_or_else(|| id.clone());
        let flags = registry.value(instance, "ConfigFlags").and_then(|value| value.dword()).unwrap_or(0);
        let (title, seen) = match used_by(survey, instance) {
            Some(used) if own.contains(&fold(&used)) && flags & FAILED == 0 => continue,
            Some(used) if own.contains(&fold(&used)) => {
                (format!("The driver of {name} could not be installed"), format!("Windows notes a failure for {used}"))
            }
            Some(used) => (format!("{name} has another driver"), format!("it uses {used}, and {inf} is made for it")),
            None => (format!("{name} has no driver"), format!("Windows knows it, and {inf} is made for it")),
        };
        found.push(blocker(
            "devices",
            Severity::MayFail,
            title,
            Some(Place::key(registry.path(instance))),
            vec![seen, format!("the driver's list of devices names {id}")],
            "Let Windows look for the device's driver again once setup has run; until then the program does not see it."
                .to_owned(),
        ));
    }
    found
}

/// The driver package of the subject that names one of a device's identifiers, with that identifier.
fn known_to(situation: &Situation<'_>, instance: KeyId, own: &[String]) -> Option<(String, String)> {
    let registry = &situation.survey.registry;
    let bus = leaf(&registry.path(registry.keys().parent(registry.keys().parent(instance)))).to_owned();
    let ids = ["HardwareID", "CompatibleIDs"].into_iter().filter_map(|name| registry.value(instance, name));
    let ids = ids.flat_map(|value| list::entries(value.name, value.kind, value.data));
    let device = format!("{bus}\\{}", registry.name(registry.keys().parent(instance)));
    for id in std::iter::once(device).chain(ids) {
        let keys = DATABASES.iter().filter_map(|database| registry.key(&format!("{database}\\DeviceIds\\{id}")));
        let mut values = keys.flat_map(|key| registry.values(key));
        if let Some(value) = values.find(|value| own.contains(&fold(value.name))) {
            return Some((value.name.to_owned(), id));
        }
    }
    None
}
