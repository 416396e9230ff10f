//! Programs that start when somebody signs in: the `Run` keys, each value with the switch that the
//! system keeps beside it.

use super::Survey;

/// One value of a `Run` key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StartupEntry {
    /// Path of the `Run` key.
    pub key: String,
    /// The value's name.
    pub name: String,
    /// The command line; empty where the value is no text.
    pub command: String,
    /// Path of the key that holds the switch; the value there has the same name.
    pub switches: String,
    /// Whether it is switched off: the first byte of the switch is odd.
    pub is_off: bool,
}

impl Survey {
    /// Every entry, of the machine in both views and of each user.
    pub fn startup_entries(&self) -> Vec<StartupEntry> {
        let machine = self.facts.software_views().into_iter().map(|top| {
            let switches = if top.contains("WOW6432Node") { "Run32" } else { "Run" };
            (top.to_owned(), "HKLM\\SOFTWARE".to_owned(), switches)
        });
        let users = self.facts.users.iter().map(|user| {
            let top = format!("{}\\Software", user.hive());
            (top.clone(), top, "Run")
        });
        machine.chain(users).flat_map(|(top, switch_top, switches)| self.run_key(&top, &switch_top, switches)).collect()
    }

    fn run_key(&self, top: &str, switch_top: &str, switches: &str) -> Vec<StartupEntry> {
        let current = "Microsoft\\Windows\\CurrentVersion";
        let path = format!("{top}\\{current}\\Run");
        let switches = format!("{switch_top}\\{current}\\Explorer\\StartupApproved\\{switches}");
        let Some(run) = self.registry.key(&path) else { return Vec::new() };
        let switch_key = self.registry.key(&switches);
        let values = self.registry.values(run).map(|value| {
            let switch = switch_key.and_then(|key| self.registry.value(key, value.name));
            StartupEntry {
                key: self.registry.path(run),
                name: value.name.to_owned(),
                command: value.text().unwrap_or_default(),
                switches: switches.clone(),
                is_off: switch.and_then(|switch| switch.data.first().copied()).is_some_and(|first| first & 1 == 1),
            }
        });
        values.collect()
    }
}
