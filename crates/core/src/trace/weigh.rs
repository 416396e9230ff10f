//! From pieces of evidence to a standing. Several pieces combine as 1 - (1-a)(1-b)...

use super::{Evidence, RuleId, Standing};
use crate::model::Place;

/// The least belief for each standing; below the last there is none.
const STANDINGS: [(f64, Standing); 3] =
    [(0.95, Standing::Certain), (0.75, Standing::Likely), (0.40, Standing::Possible)];

impl Evidence {
    /// Evidence of a rule, with that rule's weight.
    pub fn new(rule: RuleId, text: String, from: Option<Place>) -> Self {
        Self { rule, weight: rule.weight(), text, from }
    }
}

/// The standing of a belief between 0 and 1; `None` where it does not suffice for any.
pub(super) fn standing_of(belief: f64) -> Option<Standing> {
    STANDINGS.into_iter().find(|(least, _)| belief >= *least).map(|(_, standing)| standing)
}

/// The standing that evidence adds up to; `None` below `possible`.
pub fn standing(evidence: &[Evidence]) -> Option<Standing> {
    let mut doubt = 1.0;
    let mut rules: Vec<RuleId> = Vec::new();
    for piece in evidence {
        // The same rule twice is one reason seen twice, not two reasons.
        if !rules.contains(&piece.rule) {
            rules.push(piece.rule);
            doubt *= 1.0 - piece.weight;
        }
    }
    standing_of(1.0 - doubt)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn independent_reasons_add_up_and_repeated_ones_do_not() {
        let named = Evidence::new(RuleId::NamedFolder, "a".into(), None);
        let again = Evidence::new(RuleId::NamedFolder, "b".into(), None);
        let installed = Evidence::new(RuleId::InstallFolder, "c".into(), None);
        assert_eq!(standing(&[]), None);
        assert_eq!(standing(&[named.clone(), again]), Some(Standing::Likely));
        assert_eq!(standing(&[named, installed]), Some(Standing::Certain));
    }
}
