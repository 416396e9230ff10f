use super::Rule;
use crate::model::{Place, PlaceKind, path};
use crate::packages::registered::uninstall_keys;
use crate::permits;
use crate::subject::AnchorKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// The folder that the subject's registrations name as its own.
pub struct InstallFolder;

impl Rule for InstallFolder {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let mut named: Vec<(String, Place)> = Vec::new();
        for list in uninstall_keys(scene.survey) {
            for key in registry.subkeys(&list).into_iter().filter(|key| scene.is_subject_entry(*key)) {
                let folder = registry.text(key, "InstallLocation").unwrap_or_default();
                named.push((folder, Place::key(registry.path(key))));
            }
        }
        let codes =
            [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| scene.subject.codes(kind)).concat();
        for code in codes {
            if let Some(folder) = scene.registered.products.get(&code).and_then(|product| product.location.clone()) {
                named.push((folder, Place::new(PlaceKind::Product, code.to_string())));
            }
        }
        for (folder, from) in named {
            let folder = path::plain(&folder, &scene.survey.environment(None));
            let Some(entry) = scene.survey.entry(&folder).filter(|_| folder.len() > 3) else { continue };
            let folder = scene.survey.files.path(entry);
            // A registration that names the vendor's folder, or a root, does not make it the subject's.
            let too_wide =
                scene.is_publisher(path::leaf(&folder)) || permits::is_shared_root(&folder, &scene.survey.facts);
            if !too_wide {
                let text = "a registration of the subject names it as the install folder".to_owned();
                claims.add(Place::folder(folder), Evidence::new(RuleId::InstallFolder, text, Some(from)));
            }
        }
    }
}
