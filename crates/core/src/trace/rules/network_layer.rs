use super::Rule;
use crate::model::path::leaf;
use crate::trace::{Claims, Evidence, RuleId, Scene};
use crate::units::network;

/// Libraries of the subject that the connections or the name look-ups of all programs pass through, and those of others
/// that are gone.
pub struct NetworkLayer;

impl Rule for NetworkLayer {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for layer in network::layers(scene.survey) {
            let Some(library) = layer.file.clone() else { continue };
            let Some(lead) = scene.lead(claims, &library) else { continue };
            let text = format!("programs that use the network load {}, {}", leaf(&library), lead.words());
            claims.add(layer.place(), Evidence::new(lead.rule(RuleId::NetworkLayer), text, Some(lead.place)));
        }
        // Of whatever product it was: nothing works through it, and it may be what stands in the way.
        for layer in network::gone(scene.survey) {
            if scene.permits.ask(&layer.place()).is_err() {
                continue;
            }
            let library = layer.file.as_deref().unwrap_or_default();
            let text = format!(
                "programs that use the network look for {library}, which is gone; of which product it was is not known"
            );
            claims.add(layer.place(), Evidence::new(RuleId::NetworkLayerGone, text, None));
        }
    }
}
