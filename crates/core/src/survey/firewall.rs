//! Rules of the firewall: one value each, as text of fields parted by bars.

use super::{Facts, Survey};

/// A rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FirewallRule {
    /// Path of the key that lists it.
    pub key: String,
    /// The value's name.
    pub value: String,
    /// What people call it.
    pub name: String,
    /// The program that it is for, where it is for one.
    pub program: Option<String>,
    /// The service that it is for, where it is for one.
    pub service: Option<String>,
    /// Ports on which it lets others in.
    pub ports: Vec<Port>,
}

/// A port of a protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Port {
    /// Number of the protocol: 6 or 17.
    pub protocol: u8,
    /// The port.
    pub number: u16,
}

/// The keys that list rules.
pub fn keys(facts: &Facts) -> Vec<String> {
    let policy = format!("{}\\SharedAccess\\Parameters\\FirewallPolicy", facts.services_key());
    vec![format!("{policy}\\FirewallRules")]
}

impl FirewallRule {
    /// Reads the text of a rule; `None` where it is none.
    pub fn parse(key: &str, value: &str, text: &str) -> Option<Self> {
        let fields: Vec<(&str, &str)> = text.split('|').filter_map(|field| field.split_once('=')).collect();
        let field = |wanted: &str| {
            let found = fields.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted));
            found.map(|(_, value)| (*value).to_owned()).filter(|value| !value.is_empty())
        };
        let action = field("Action")?;
        let lets_in = action.eq_ignore_ascii_case("allow")
            && field("Dir").is_some_and(|direction| direction.eq_ignore_ascii_case("in"));
        let protocol = field("Protocol").and_then(|number| number.parse().ok()).filter(|_| lets_in);
        let numbers = fields.iter().filter(|(name, _)| name.eq_ignore_ascii_case("LPort"));
        let numbers = numbers.filter_map(|(_, number)| number.parse().ok());
        let ports = numbers.filter_map(|number| Some(Port { protocol: protocol?, number })).collect();
        Some(Self {
            key: key.to_owned(),
            value: value.to_owned(),
            name: field("Name").unwrap_or_default(),
            program: field("App").filter(|program| !program.eq_ignore_ascii_case("System")),
            service: field("Svc"),
            ports,
        })
    }
}

impl Survey {
    /// All rules of the firewall.
    pub fn firewall_rules(&self) -> Vec<FirewallRule> {
        let listed = keys(&self.facts).into_iter().filter_map(|path| Some((self.registry.key(&path)?, path)));
        listed
            .flat_map(|(key, path)| {
                let rules = self.registry.values(key);
                rules.filter_map(move |value| FirewallRule::parse(&path, value.name, &value.text()?))
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_fields_of_a_rule_are_read() {
        let text = "v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|App=%ProgramFiles%\\Fennelgate\\desk.exe|Name=Scale Desk|";
        let rule = FirewallRule::parse("K", "{1}", text).unwrap();
        assert_eq!(rule.program.as_deref(), Some("%ProgramFiles%\\Fennelgate\\desk.exe"));
        assert_eq!((rule.name.as_str(), rule.service), ("Scale Desk", None));
        assert_eq!(FirewallRule::parse("K", "v", "v2.30|Dir=In|"), None);
        let text = "v2.30|Action=Allow|Dir=In|Protocol=6|LPort=5040|LPort=RPC|App=C:\\desk.exe|Name=Scale Desk|";
        assert_eq!(FirewallRule::parse("K", "v", text).unwrap().ports, [Port { protocol: 6, number: 5040 }]);
        let out = text.replace("Dir=In", "Dir=Out");
        assert_eq!(FirewallRule::parse("K", "v", &out).unwrap().ports, []);
    }
}
