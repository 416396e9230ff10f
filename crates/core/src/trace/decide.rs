//! From claims to decisions: what is taken, what stays, and why.

use std::collections::HashSet;

use super::claims::{Claim, Claims};
use super::location::{below_classes, holds_add_ins, location};
use super::of_install::OfInstall;
use super::own_data::{OwnData, is_made_again};
use super::{Decision, Evidence, Group, Remnant, Role, RuleId, Scene, Standing, weigh};
use crate::model::path::{is_inside_or_same, parent};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::permits::Permit;
use crate::subject::AnchorKind;
use crate::survey::{EntryKind, KeyId, NodeId, User};

/// Decides every claim; a folder or key that holds something else's is split around it.
pub fn decide(scene: &Scene<'_>, claims: Claims) -> Vec<Remnant> {
    let claims: Vec<Claim> = claims.into_all().collect();
    let folders: Vec<String> = claims
        .iter()
        .filter(|claim| claim.place.kind == PlaceKind::Folder)
        .map(|claim| claim.place.path.clone())
        .collect();
    let owns = |program: &str| folders.iter().any(|folder| is_inside_or_same(program, folder));
    let is_key = |claim: &&Claim| claim.place.kind == PlaceKind::Key && fold(&claim.place.path).starts_with("HKLM\\");
    let keys: Vec<&str> = claims.iter().filter(is_key).map(|claim| claim.place.path.as_str()).collect();
    let own_data = OwnData::new(scene, &keys, &owns);
    let parts: Vec<Place> = claims.iter().flat_map(|claim| claim.parts.iter().cloned()).collect();
    let claimed = claims.iter().map(|claim| fold(&claim.place.path)).collect();
    let mut decider = Decider { scene, own_data, claimed, remnants: Vec::new() };
    for claim in &claims {
        // What is a part of something goes with that.
        if parts.iter().any(|part| claim.place.is_within(part)) {
            continue;
        }
        // A place inside another claimed one goes with it.
        let inside = claims.iter().any(|other| !std::ptr::eq(other, claim) && claim.place.is_within(&other.place));
        if inside && (claim.place.kind.is_on_disk() || claim.place.kind == PlaceKind::Key) {
            continue;
        }
        if let Some(standing) = weigh::standing(&claim.evidence) {
            decider.claim(claim, standing);
        }
    }
    decider.remnants
}

/// The topmost place of a claim on the disk: what lies in it lies in the same profile.
struct Top<'s> {
    entry: NodeId,
    user: Option<&'s User>,
    follows_user: bool,
    is_machine_data: bool,
}

impl<'s> Top<'s> {
    fn new(scene: &Scene<'s>, entry: NodeId) -> Self {
        let path = scene.survey.files.path(entry);
        let user = scene.user_of(&path);
        let follows_user = user.is_some_and(|user| is_inside_or_same(&path, &user.roaming()));
        let is_machine_data = is_inside_or_same(&path, &scene.survey.facts.program_data);
        Self { entry, user, follows_user, is_machine_data }
    }

    /// Whether programs keep there what they and people make, and not themselves.
    fn is_data(&self, scene: &Scene<'_>) -> bool {
        let programs = self.user.map(|user| format!("{}\\Programs", user.local()));
        let path = scene.survey.files.path(self.entry);
        self.is_machine_data || programs.is_some_and(|programs| !is_inside_or_same(&path, &programs))
    }
}

struct Decider<'s> {
    scene: &'s Scene<'s>,
    own_data: OwnData,
    /// Paths, folded, of everything that is claimed.
    claimed: HashSet<String>,
    remnants: Vec<Remnant>,
}

impl Decider<'_> {
    fn claim(&mut self, claim: &Claim, standing: Standing) {
        let survey = self.scene.survey;
        let by_standing = match standing {
            Standing::Possible => Decision::Ask,
            _ => Decision::Remove,
        };
        let reason = claim.evidence.iter().max_by(|a, b| a.weight.total_cmp(&b.weight)).map(|best| best.text.clone());
        let reason = reason.unwrap_or_default();
        if claim.evidence.iter().any(|evidence| evidence.rule == RuleId::History) {
            let why = "Windows itself notes there what has run".to_owned();
            return self.push(claim, claim.place.clone(), standing, Decision::Keep, why);
        }
        if let Some(shown) = claim.evidence.iter().find(|evidence| evidence.rule.role() == Role::ShowsOnly) {
            let why = format!("{}; look whether it is still needed", shown.text);
            return self.push(claim, claim.place.clone(), standing, Decision::Keep, why);
        }
        let by_standing = match self.scene.permits.ask(&claim.place) {
            Err(why) => return self.push(claim, claim.place.clone(), standing, Decision::Keep, why.to_owned()),
            Ok(Permit { caution: Some(why), .. }) => {
                return self.push(claim, claim.place.clone(), standing, Decision::Ask, format!("{why}; {reason}"));
            }
            Ok(_) => by_standing,
        };
        if claim.place.kind == PlaceKind::Driver
            && let Some(why) = self.driver_stays(&claim.place.path)
        {
            return self.push(claim, claim.place.clone(), standing, Decision::Ask, why);
        }
        if claim.place.kind == PlaceKind::Service
            && let Some((decision, why)) = self.service_stays(&claim.place.path)
        {
            return self.push(claim, claim.place.clone(), standing, decision, why);
        }
        match claim.place.kind {
            PlaceKind::Folder | PlaceKind::File => {
                if let Some(entry) = survey.files.find(&claim.place.path) {
                    let top = Top::new(self.scene, entry);
                    self.entry(claim, entry, &top, standing, by_standing, &reason)
                }
            }
            PlaceKind::Key => {
                if let Some(key) = survey.registry.key(&claim.place.path) {
                    self.key(claim, key, standing, by_standing, &reason)
                }
            }
            _ => self.push(claim, claim.place.clone(), standing, by_standing, reason),
        }
    }

    /// Why a driver package is asked about: a service of it stays, and would not find its driver.
    fn driver_stays(&self, published: &str) -> Option<String> {
        let driver = self.scene.drivers().iter().find(|one| fold(&one.published) == fold(published))?;
        let (survey, permits) = (self.scene.survey, &self.scene.permits);
        // Many packages use a service of Windows, which is none of theirs.
        let is_brought = |service: &&String| {
            let key = survey.registry.key(&format!("{}\\{service}", survey.facts.services_key()));
            let program = key.and_then(|key| permits.program_of_service(key)).map(Place::file);
            program.is_some_and(|program| driver.parts.iter().any(|part| program.is_within(part)))
        };
        let stays = |service: &&String| permits.ask(&Place::new(PlaceKind::Service, service.as_str())).is_err();
        let service = driver.services.iter().filter(is_brought).find(stays)?;
        Some(format!("its service {service} stays, and would not find its driver"))
    }

    /// Why a service stays or is asked about: another product's program runs it, or another service needs it.
    fn service_stays(&self, name: &str) -> Option<(Decision, String)> {
        let scene = self.scene;
        let survey = scene.survey;
        let key = survey.registry.key(&format!("{}\\{name}", survey.facts.services_key()))?;
        let program = scene.permits.program_of_service(key).and_then(|program| survey.entry(&program));
        if let Some(owner) = program.and_then(|at| super::bystanders::shares_file(scene, at)) {
            return Some((Decision::Keep, format!("{owner} uses the program that it runs")));
        }
        let mut others = scene.permits.dependents_of(name).into_iter();
        let other = others.find(|one| !self.claimed.contains(&fold(one)))?;
        Some((Decision::Ask, format!("the service {other} needs it, and would not start without it")))
    }

    /// Takes an entry whole where nothing in it must stay, else goes into it.
    fn entry(
        &mut self,
        claim: &Claim,
        at: NodeId,
        top: &Top<'_>,
        standing: Standing,
        decision: Decision,
        reason: &str,
    ) {
        let files = &self.scene.survey.files;
        let place = match files.data(at).kind {
            EntryKind::Folder => Place::folder(files.path(at)),
            _ => Place::file(files.path(at)),
        };
        if let Some((stays, why)) = self.entry_stays(at, top) {
            return self.push(claim, place, standing, stays, why);
        }
        let holds_more = files.below(at).into_iter().skip(1).any(|node| self.entry_stays(node, top).is_some());
        if !holds_more {
            // What nobody has seen may be somebody else's.
            return match self.scene.survey.gaps.iter().find(|gap| is_inside_or_same(&gap.what, &place.path)) {
                Some(gap) => {
                    let why = format!("{} could not be looked at: {}", gap.what, gap.why);
                    self.push(claim, place, standing, Decision::Ask, why)
                }
                None => self.push(claim, place, standing, decision, reason.to_owned()),
            };
        }
        if let Some((stays, why)) = self.all_stay(at, top) {
            return self.push(claim, place, standing, stays, why);
        }
        for child in files.children(at).collect::<Vec<_>>() {
            self.entry(claim, child, top, standing, decision, reason);
        }
    }

    /// The one reason why everything in a folder stays, if there is one for all of it.
    fn all_stay(&self, at: NodeId, top: &Top<'_>) -> Option<(Decision, String)> {
        let files = &self.scene.survey.files;
        let mut whys = files
            .below(at)
            .into_iter()
            .filter(|node| files.data(*node).kind != EntryKind::Folder)
            .map(|node| self.entry_stays(node, top));
        let first = whys.next()??;
        whys.all(|why| why.as_ref() == Some(&first)).then_some(first)
    }

    /// Why this very entry stays: another product's, shared, or the user's own.
    fn entry_stays(&self, at: NodeId, top: &Top<'_>) -> Option<(Decision, String)> {
        let scene = self.scene;
        let kind = scene.survey.files.data(at).kind;
        if let Some(why) = self.own_data.printed(scene, at) {
            return Some((Decision::Keep, why));
        }
        if kind != EntryKind::File
            && let Some(owner) = super::bystanders::owner_of_folder(scene, &scene.survey.files.path(at))
        {
            return Some((Decision::Keep, format!("{owner} is installed there")));
        }
        if kind == EntryKind::Folder {
            return None;
        }
        // The installer that is to be run would go with the folder that it lies in.
        let payloads = scene.subject.all(AnchorKind::Payload);
        let mut alike = payloads.filter(|payload| payload.ends_with(scene.survey.files.name(at)));
        if alike.any(|payload| fold(payload) == fold(&scene.survey.files.path(at))) {
            return Some((Decision::Keep, "it is the installer for it".to_owned()));
        }
        if let Some(why) = scene.needed_by_network(at) {
            return Some((Decision::Keep, why.to_owned()));
        }
        if let Some(owner) = super::bystanders::shares_file(scene, at) {
            return Some((Decision::Keep, format!("{owner} uses it as well")));
        }
        if let Some((decision, why)) = self.counted(at) {
            return Some((decision, why));
        }
        if let Some(user) = top.user {
            if let Some(why) = self.own_data.why(scene, at, top.entry) {
                return Some((Decision::Keep, why.replace("the user", &user.name)));
            }
            // What follows a user from machine to machine is rarely a cache.
            if top.follows_user && !is_made_again(scene, at, top.entry) {
                return Some((Decision::Keep, format!("nothing tells whether {} made it or the program", user.name)));
            }
        } else if top.is_machine_data
            && let Some(why) = self.own_data.why_of_machine(scene, at)
        {
            return Some((Decision::Keep, why));
        }
        // The time of a link is not the time of a document.
        if kind == EntryKind::Link {
            return None;
        }
        let is_named = self.claimed.contains(&fold(&scene.survey.files.path(at)));
        self.own_data.why_later(scene, at, top.entry, top.is_data(scene), is_named)
    }

    /// Why a file stays that more products share than this one, by its count. Setups count anew at each repair, so
    /// that in a folder of the subject's own a count is asked about.
    fn counted(&self, at: NodeId) -> Option<(Decision, String)> {
        let others = self.scene.count_of(at)?.checked_sub(1).filter(|others| *others > 0)?;
        let path = self.scene.survey.files.path(at);
        let is_shared =
            fold(&path).contains("\\COMMON FILES\\") || is_inside_or_same(&path, &self.scene.survey.facts.windows);
        let decision = if is_shared { Decision::Keep } else { Decision::Ask };
        let products = if others == 1 { "product shares" } else { "products share" };
        Some((decision, format!("{others} other {products} it, by its count in SharedDLLs")))
    }

    fn key(&mut self, claim: &Claim, at: KeyId, standing: Standing, decision: Decision, reason: &str) {
        let scene = self.scene;
        let registry = &scene.survey.registry;
        let path = registry.path(at);
        let is_registration = location(&path, None).is_some() || below_classes(&path).is_some();
        let of_user = scene.user_of(&path).filter(|_| group(scene, &Place::key(&path)) == Group::UserData);
        if let Some(user) = of_user.filter(|_| !is_registration) {
            let owns = |path: &str| {
                std::iter::successors(Some(path), |at| parent(at))
                    .any(|at| self.claimed.contains(&fold(at)) || !scene.survey.exists(at) && scene.was_subjects(at))
            };
            let found = OfInstall::read(scene, at, user, &owns);
            if found.alone {
                let why = "it only says where and in which version it is installed".to_owned();
                return self.push(claim, Place::key(path), standing, decision, why);
            }
            for place in found.leading {
                self.push(claim, place, standing, decision, "it says where it is installed".to_owned());
            }
            return self.push(claim, Place::key(path), standing, Decision::Keep, format!("settings of {}", user.name));
        }
        let children: Vec<KeyId> = registry.keys().children(at).collect();
        let stays: Vec<Option<String>> = children.iter().map(|child| self.key_stays(*child)).collect();
        let below = registry.keys().below(at).into_iter().skip(1);
        if stays.iter().all(Option::is_none) && !below.into_iter().any(|key| self.others_add_in(key).is_some()) {
            return self.push(claim, Place::key(path), standing, decision, reason.to_owned());
        }
        for (child, stays) in children.into_iter().zip(stays) {
            match stays {
                Some(why) => self.push(claim, Place::key(registry.path(child)), standing, Decision::Keep, why),
                None => self.key(claim, child, standing, decision, reason),
            }
        }
        for value in registry.values(at) {
            let place = Place::value(&path, value.name);
            self.push(claim, place, standing, decision, reason.to_owned());
        }
    }

    /// Why a key inside one of the subject's is somebody else's.
    fn key_stays(&self, key: KeyId) -> Option<String> {
        let name = self.scene.survey.registry.name(key);
        if self.scene.others.iter().any(|other| other.names(name))
            && self.scene.fit(name) != Some(super::scene::NameFit::Full)
        {
            return Some("another product's settings".to_owned());
        }
        self.others_add_in(key)
            .map(|owner| format!("the registration of an add-in, {owner}, which is another product's"))
    }

    /// An add-in that another product has registered with the subject: called after a class that is
    /// not the subject's.
    fn others_add_in(&self, key: KeyId) -> Option<String> {
        let registry = &self.scene.survey.registry;
        if !holds_add_ins(registry.name(registry.keys().parent(key))) {
            return None;
        }
        let name = registry.name(key);
        let users = self.scene.survey.facts.users.iter().map(|user| format!("{}_Classes", user.hive()));
        let mut roots = std::iter::once("HKLM\\SOFTWARE\\Classes".to_owned()).chain(users);
        roots
            .any(|root| {
                let class = format!("{root}\\{name}");
                registry.key(&class).is_some() && !self.claimed.contains(&fold(&class))
            })
            .then(|| name.to_owned())
    }

    fn push(&mut self, claim: &Claim, place: Place, standing: Standing, decision: Decision, reason: String) {
        let mut evidence = claim.evidence.clone();
        if place != claim.place {
            let text = format!("it is inside {}", claim.place);
            evidence.insert(0, Evidence::new(RuleId::Containment, text, Some(claim.place.clone())));
        }
        let is_history = evidence.iter().any(|evidence| evidence.rule == RuleId::History);
        self.remnants.push(Remnant {
            id: String::new(),
            group: if is_history { Group::History } else { group(self.scene, &place) },
            parts: claim.parts.clone(),
            title: title(self.scene, &place),
            place,
            standing,
            decision,
            reason,
            bytes: 0,
            files: 0,
            changed: None,
            versions: Vec::new(),
            evidence,
        });
    }
}

/// What people call a place that is named by an identifier or a short name.
fn title(scene: &Scene<'_>, place: &Place) -> String {
    let survey = scene.survey;
    let found = match place.kind {
        PlaceKind::Product | PlaceKind::UpgradeCode => {
            let product = place.path.parse().ok().and_then(|code| scene.registered.products.get(&code));
            product.filter(|product| !product.name.is_empty()).map(|product| match &product.version {
                Some(version) => format!("{} {version}", product.name),
                None => product.name.clone(),
            })
        }
        PlaceKind::Service => {
            let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), place.path));
            key.and_then(|key| survey.registry.text(key, "DisplayName"))
        }
        PlaceKind::Driver => {
            let driver = scene.drivers().iter().find(|driver| driver.published == place.path);
            driver.filter(|driver| !driver.original.is_empty()).map(|driver| driver.original.clone())
        }
        PlaceKind::StorePackage => {
            let package = scene.store_packages().iter().find(|package| package.full_name == place.path);
            package.map(|package| package.title.clone())
        }
        PlaceKind::FirewallRule => {
            let rules = scene.firewall_rules().iter();
            rules.into_iter().find(|rule| Some(&rule.value) == place.name.as_ref()).map(|rule| rule.name.clone())
        }
        PlaceKind::Process => {
            let image = crate::model::text::fold(&place.path);
            let mut processes = survey.running.processes.iter();
            processes.find(|one| crate::model::text::fold(&one.image) == image).map(|one| one.title.clone())
        }
        PlaceKind::Key => survey.registry.key(&place.path).and_then(|key| survey.registry.text(key, "DisplayName")),
        _ => None,
    };
    found.unwrap_or_default()
}

/// What a technician thinks of a place as.
pub fn group(scene: &Scene<'_>, place: &Place) -> Group {
    let path = crate::model::text::fold(&place.path);
    match place.kind {
        PlaceKind::Process => Group::Running,
        PlaceKind::Product | PlaceKind::UpgradeCode => Group::Registration,
        PlaceKind::Service | PlaceKind::Driver => Group::Services,
        PlaceKind::Task => Group::Startup,
        PlaceKind::StorePackage => Group::Program,
        PlaceKind::SharedCount => Group::Registration,
        PlaceKind::Startup | PlaceKind::Shortcut | PlaceKind::WindowsValue => Group::Startup,
        _ if path.contains("\\CURRENTVERSION\\UNINSTALL\\") => Group::Registration,
        _ if path.contains("\\START MENU\\") => Group::Startup,
        PlaceKind::Key | PlaceKind::Value | PlaceKind::ListEntry
            if below_classes(&place.path).is_some() || location(&place.path, place.name.as_deref()).is_some() =>
        {
            Group::Shell
        }
        PlaceKind::FirewallRule | PlaceKind::NetworkLayer => Group::Services,
        PlaceKind::ListEntry if path.contains("\\CONTROL\\NETWORKPROVIDER\\") => Group::Services,
        PlaceKind::ListEntry if path.contains("\\CONTROL\\LSA") || path.ends_with("\\CURRENTVERSION\\WINDOWS") => {
            Group::Services
        }
        PlaceKind::ListEntry if path.contains("\\CONTROL\\CLASS\\") || path.contains("\\ENUM\\") => Group::Services,
        PlaceKind::Key if path.contains("\\SYSTEMCERTIFICATES\\") => Group::Registration,
        _ if scene.user_of(&place.path).is_some() => Group::UserData,
        PlaceKind::Folder | PlaceKind::File => {
            let facts = &scene.survey.facts;
            // What people put on another drive are programs.
            let folders = facts.program_folders().into_iter().chain(facts.other_drives.iter().map(String::as_str));
            match folders.into_iter().any(|folder| is_inside_or_same(&place.path, folder)) {
                true => Group::Program,
                false => Group::MachineData,
            }
        }
        _ => Group::MachineData,
    }
}
