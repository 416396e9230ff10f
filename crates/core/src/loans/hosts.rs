//! The loan that removes lines of the hosts file which redirect the product's servers.

use super::{Beside, Lent, Loan};
use crate::content::hosts::{BELOW_WINDOWS, Entry, domain_of, entries, is_in_domain, without};
use crate::model::text::fold;
use crate::packages::Package;
use crate::survey::{Facts, Survey};
use crate::trace::{Remnant, Trace};

/// Name of the loan.
pub(crate) const HOSTS: &str = "hosts";
/// Values of an entry in the list of programs that contain an internet address, and the package properties that they are
/// made from. Source: Microsoft's public reference of the `Uninstall` registry key.
const ADDRESSES: [(&str, &str); 3] =
    [("URLInfoAbout", "ARPURLINFOABOUT"), ("URLUpdateInfo", "ARPURLUPDATEINFO"), ("HelpLink", "ARPHELPLINK")];

/// Path of the hosts file. A loan changes the content of no other file.
pub fn hosts_file(facts: &Facts) -> String {
    format!("{}\\{BELOW_WINDOWS}", facts.windows)
}

/// Returns the entries of the hosts file whose name is in a domain of the product. The domains come from the product's
/// entry in the list of programs and from the package.
pub(crate) fn redirected(hosts: &[u8], survey: &Survey, trace: &Trace, package: Option<&Package>) -> Vec<Entry> {
    let of_entry = |remnant: &Remnant| {
        let is_entry = fold(&remnant.place.path).contains("\\CURRENTVERSION\\UNINSTALL\\");
        let key = survey.registry.key(&remnant.place.path).filter(|_| is_entry)?;
        Some(ADDRESSES.iter().filter_map(move |(name, _)| survey.registry.text(key, name)))
    };
    let listed = trace.remnants.iter().filter_map(of_entry).flatten();
    let named = ADDRESSES.iter().filter_map(|(_, property)| package?.properties.get(*property).cloned());
    let domains: Vec<String> = listed.chain(named).filter_map(|url| domain_of(&url)).collect();
    let mut found = entries(hosts);
    found.retain(|entry| domains.iter().any(|domain| is_in_domain(&entry.name, domain)));
    found
}

/// Offers the hosts file without the lines of [`redirected`] entries. A line is removed whole, with other names in it.
pub(super) fn loan(survey: &Survey, trace: &Trace, beside: Beside<'_>) -> Option<Loan> {
    let content = beside.hosts?;
    let found = redirected(content, survey, trace, beside.payload.and_then(|(_, package)| package));
    let first = found.first()?;
    let lines: Vec<usize> = found.iter().map(|entry| entry.line).collect();
    Some(Loan {
        name: HOSTS.to_owned(),
        title: format!("{} is looked up on the network, not in the hosts file", first.name),
        good_for: "setup and the program reach their own servers".to_owned(),
        changes: vec![Lent::Content { path: hosts_file(&survey.facts), content: without(content, &lines) }],
    })
}
