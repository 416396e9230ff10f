use super::Rule;
use crate::model::Place;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Certificates that name the subject or its publisher, in the stores of the machine and of each user:
/// shown, and kept, since what they were trusted for may be more than this product.
pub struct Certificate;

/// Letters that a name must have to be looked for among bytes.
const TELLING: usize = 6;

impl Rule for Certificate {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let users = scene.survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE", user.hive()));
        let names: Vec<&str> = scene.full_names().filter(|name| name.chars().count() >= TELLING).collect();
        for root in std::iter::once("HKLM\\SOFTWARE".to_owned()).chain(users) {
            for store in registry.subkeys(&format!("{root}\\Microsoft\\SystemCertificates")) {
                let path = format!("{}\\Certificates", registry.path(store));
                for key in registry.subkeys(&path) {
                    let Some(blob) = registry.value(key, "Blob") else { continue };
                    let Some(name) = names.iter().find(|name| holds(blob.data, name)) else { continue };
                    let text = format!("a certificate in the store {} that names {name}", registry.name(store));
                    claims.add(Place::key(registry.path(key)), Evidence::new(RuleId::Certificate, text, None));
                }
            }
        }
    }
}

/// Whether bytes hold a name as certificates write one: a letter a byte, or two bytes with the
/// higher one first.
fn holds(bytes: &[u8], name: &str) -> bool {
    let wide: Vec<u8> = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
    [name.as_bytes(), &wide]
        .iter()
        .any(|wanted| bytes.windows(wanted.len()).any(|part| part.eq_ignore_ascii_case(wanted)))
}
