use super::Rule;
use crate::content::Content;
use crate::model::text::fold;
use crate::model::{Guid, Place};
use crate::packages::Product;
use crate::subject::AnchorKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// The package installer's own copies of the subject's packages, and the icons that it keeps for
/// a product code.
pub struct CachedPackage;

impl Rule for CachedPackage {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let files = &scene.survey.files;
        let own = [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| scene.subject.codes(kind)).concat();
        let folder = format!("{}\\Installer", scene.survey.facts.windows);
        let Some(folder) = files.find(&folder) else { return };
        for told in scene.survey.contents.iter().filter(|told| files.parent(told.file) == folder) {
            let Content::Package(package) = &told.content else { continue };
            let path = fold(&files.path(told.file));
            let is_kept = |product: &Product| product.cached_package.as_deref().map(fold).as_ref() == Some(&path);
            // Where a product is registered for it, it goes or stays with that.
            if scene.registered.products.values().any(is_kept) {
                continue;
            }
            let is_known = package.code.parse::<Guid>().is_ok_and(|code| own.contains(&code));
            if is_known || scene.is_subject_name(&package.name) {
                let text = format!("it is the package installer's copy of {} {}", package.name, package.version);
                claims.add(Place::file(files.path(told.file)), Evidence::new(RuleId::CachedPackage, text, None));
            }
        }
        for child in files.children(folder) {
            let code = files.name(child).parse::<Guid>();
            if let Some(code) = code.ok().filter(|code| own.contains(code)) {
                let text = format!("it holds the icons that the package installer keeps for {code}");
                claims.add(Place::folder(files.path(child)), Evidence::new(RuleId::CachedIcons, text, None));
            }
        }
    }
}
