//! What a package will say on a given machine, found without running it.

use std::collections::BTreeMap;

use super::condition::Condition;
use super::{Package, Product, Registered, Upgrade};
use crate::model::Guid;
use crate::survey::Survey;

/// A related product that the package's upgrade table matches.
#[derive(Clone, Debug)]
pub struct Related {
    /// The upgrade code.
    pub upgrade: Guid,
    /// The product.
    pub product: Guid,
    /// The property that receives its code.
    pub property: String,
    /// Whether the package means to remove it.
    pub removes: bool,
}

/// Why the package will stop.
#[derive(Clone, Debug)]
pub enum Stop {
    /// A launch condition does not hold.
    Condition {
        /// The condition.
        condition: String,
        /// What setup will say.
        message: String,
        /// Properties that decide it, with their values.
        decided_by: Vec<(String, String)>,
        /// Registered products that set one of those properties.
        products: Vec<Guid>,
    },
    /// A product is to be removed first, and the package that this needs is gone.
    CannotRemove {
        /// The product.
        product: Guid,
        /// The cached package that is missing.
        cached_package: String,
    },
    /// A condition cannot be read.
    Unreadable {
        /// The condition.
        condition: String,
    },
}

/// The prediction.
#[derive(Clone, Debug, Default)]
pub struct Prediction {
    /// Related products found.
    pub related: Vec<Related>,
    /// Reasons to stop, in the order in which setup meets them.
    pub stops: Vec<Stop>,
    /// Properties as setup will have them.
    pub properties: BTreeMap<String, String>,
}

/// What the package will do at its first decisions: related products, searches, conditions.
pub fn predict(package: &Package, survey: &Survey, registered: &Registered) -> Prediction {
    let mut prediction = Prediction { properties: properties(package, survey), ..Prediction::default() };
    if registered.products.get(&package.product_code).is_some_and(|product| product.has_product_key) {
        prediction.properties.insert("Installed".to_owned(), "00:00:00".to_owned());
    }
    for upgrade in &package.upgrades {
        find_related(package, upgrade, registered, &mut prediction);
    }
    for row in &package.conditions {
        let stop = match Condition::parse(&row.condition) {
            Err(_) => Stop::Unreadable { condition: row.condition.clone() },
            Ok(condition) if holds(&condition, &prediction.properties, survey) => continue,
            Ok(condition) => {
                let decided_by: Vec<(String, String)> = condition
                    .properties()
                    .into_iter()
                    .map(|name| (name.to_owned(), prediction.properties.get(name).cloned().unwrap_or_default()))
                    .collect();
                let sets = |related: &&Related| decided_by.iter().any(|(name, _)| *name == related.property);
                let products = prediction.related.iter().filter(sets).map(|related| related.product).collect();
                Stop::Condition { condition: row.condition.clone(), message: row.message.clone(), decided_by, products }
            }
        };
        prediction.stops.push(stop);
    }
    for related in prediction.related.iter().filter(|related| related.removes) {
        let Some(product) = registered.products.get(&related.product) else { continue };
        if let (Some(false), Some(cached)) = (product.cache_is_there(survey), &product.cached_package) {
            prediction.stops.push(Stop::CannotRemove { product: related.product, cached_package: cached.clone() });
        }
    }
    prediction
}

/// Whether a condition holds with these properties on that machine.
pub fn holds(condition: &Condition, properties: &BTreeMap<String, String>, survey: &Survey) -> bool {
    let environment = survey.environment(None);
    condition.holds(&|name| properties.get(name).cloned().unwrap_or_default(), &|name| {
        environment.get(name).unwrap_or_default().to_owned()
    })
}

/// Properties that setup starts with: its own table, and those that describe the system.
/// Properties as setup has them once its searches are done.
pub(super) fn properties(package: &Package, survey: &Survey) -> BTreeMap<String, String> {
    let mut properties = package.properties.clone();
    // Windows 10 and 11 tell packages 603, as documented, whatever their own version is.
    let told = match survey.facts.version.as_str() {
        "6.1" => "601",
        "6.2" => "602",
        _ => "603",
    };
    let is_64 = survey.facts.program_files_x86.is_some();
    properties.insert("VersionNT".into(), told.into());
    if is_64 {
        properties.insert("VersionNT64".into(), told.into());
        properties.insert("Msix64".into(), "1".into());
    }
    properties.insert("WindowsBuild".into(), survey.facts.build.to_string());
    properties.insert("Privileged".into(), "1".into());
    properties.insert("AdminUser".into(), "1".into());
    let found = package.searches.iter().filter_map(|search| Some((search.property.clone(), searched(search, survey)?)));
    properties.extend(found);
    properties
}

fn find_related(package: &Package, upgrade: &Upgrade, registered: &Registered, prediction: &mut Prediction) {
    for (code, product) in registered.related(upgrade.code) {
        if code == package.product_code || !product.has_product_key || !matches(upgrade, product) {
            continue;
        }
        let property = prediction.properties.entry(upgrade.property.clone()).or_default();
        if !property.is_empty() {
            property.push(';');
        }
        property.push_str(&code.to_string());
        prediction.related.push(Related {
            upgrade: upgrade.code,
            product: code,
            property: upgrade.property.clone(),
            removes: !upgrade.only_detect,
        });
    }
}

fn matches(upgrade: &Upgrade, product: &Product) -> bool {
    let Some(version) = &product.version else { return true };
    let above = upgrade.min.as_ref().is_none_or(|min| version > min || (upgrade.min_inclusive && version == min));
    let below = upgrade.max.as_ref().is_none_or(|max| version < max || (upgrade.max_inclusive && version == max));
    above && below
}

fn searched(search: &super::Search, survey: &Survey) -> Option<String> {
    let wide = search.is_64 || survey.facts.program_files_x86.is_none();
    let top = match (search.root, search.key.split_once('\\')) {
        (2, Some((top, rest))) if top.eq_ignore_ascii_case("SOFTWARE") && !wide => {
            format!("HKLM\\SOFTWARE\\WOW6432Node\\{rest}")
        }
        (2, _) => format!("HKLM\\{}", search.key),
        _ => return None,
    };
    let key = survey.registry.key(&top)?;
    let value = survey.registry.value(key, &search.name)?;
    // A number is told as `#5`, as the format does.
    value.text().or_else(|| value.dword().map(|number| format!("#{number}")))
}
