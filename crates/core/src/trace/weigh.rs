//! From pieces of evidence to a standing. All numbers are in one table.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use serde::Deserialize;

use super::{Evidence, Standing};
use crate::model::Place;

#[derive(Deserialize)]
struct Table {
    standing: Thresholds,
    weight: BTreeMap<String, f64>,
}

#[derive(Deserialize)]
struct Thresholds {
    certain: f64,
    likely: f64,
    possible: f64,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/evidence.toml")).expect("the table is tested"));

impl Evidence {
    /// Evidence of a rule, with the weight that the table gives it.
    ///
    /// # Panics
    /// If the table does not know the rule, which a test excludes.
    pub fn new(rule: &str, text: String, from: Option<Place>) -> Self {
        let weight = *TABLE.weight.get(rule).unwrap_or_else(|| panic!("no weight for the rule {rule}"));
        Self { rule: rule.to_owned(), weight, text, from }
    }
}

/// The standing that evidence adds up to; `None` below `possible`.
pub fn standing(evidence: &[Evidence]) -> Option<Standing> {
    let mut doubt = 1.0;
    let mut rules: Vec<&str> = Vec::new();
    for piece in evidence {
        // The same rule twice is one reason seen twice, not two reasons.
        if !rules.contains(&piece.rule.as_str()) {
            rules.push(&piece.rule);
            doubt *= 1.0 - piece.weight;
        }
    }
    let belief = 1.0 - doubt;
    let thresholds = &TABLE.standing;
    match belief {
        _ if belief >= thresholds.certain => Some(Standing::Certain),
        _ if belief >= thresholds.likely => Some(Standing::Likely),
        _ if belief >= thresholds.possible => Some(Standing::Possible),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn independent_reasons_add_up_and_repeated_ones_do_not() {
        let named = Evidence::new("named-folder", "a".into(), None);
        let again = Evidence::new("named-folder", "b".into(), None);
        let installed = Evidence::new("install-folder", "c".into(), None);
        assert_eq!(standing(&[]), None);
        assert_eq!(standing(&[named.clone(), again]), Some(Standing::Likely));
        assert_eq!(standing(&[named, installed]), Some(Standing::Certain));
    }
}
