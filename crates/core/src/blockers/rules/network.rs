use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;

/// Where a user's and the machine's settings for the internet lie, as publicly documented.
const SETTINGS: &str = "Microsoft\\Windows\\CurrentVersion\\Internet Settings";

/// Setup has to fetch what it installs, and there is no network, or a proxy stands before it. With a whole package at
/// hand nothing of that matters.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    if situation.known.payload.is_some() {
        return Vec::new();
    }
    let mut found = Vec::new();
    if situation.survey.running.network == Some(false) {
        found.push(blocker(
            "network",
            Severity::MayFail,
            "There is no network, and no whole installer is at hand".to_owned(),
            None,
            vec!["the network is not connected".to_owned()],
            "Connect the network, or bring the full installer: `stubble payload` looks for one.".to_owned(),
        ));
    }
    found.extend(proxies(situation));
    found
}

fn proxies(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let users = survey.facts.users.iter().map(|user| (format!("{}\\SOFTWARE\\{SETTINGS}", user.hive()), &user.name));
    let policy = format!("HKLM\\SOFTWARE\\Policies\\{SETTINGS}");
    let system = "the system".to_owned();
    let machine = [(policy, &system), (format!("HKLM\\SOFTWARE\\{SETTINGS}"), &system)];
    let mut found = Vec::new();
    for (key, whose) in users.chain(machine) {
        let Some(at) = survey.registry.key(&key) else { continue };
        let is_on = survey.registry.value(at, "ProxyEnable").and_then(|value| value.dword()) == Some(1);
        let server = survey.registry.text(at, "ProxyServer").filter(|server| is_on && !server.is_empty());
        let script = survey.registry.text(at, "AutoConfigURL").filter(|script| !script.is_empty());
        let (name, value, what) = match (server, script) {
            (Some(server), _) => ("ProxyServer", server, "through a proxy"),
            (None, Some(script)) => ("AutoConfigURL", script, "where a script says"),
            (None, None) => continue,
        };
        let is_local = ["127.", "localhost", "[::1]"].iter().any(|own| value.contains(own));
        let mut evidence = vec![format!("{key} : {name} is {value}")];
        if is_local {
            let why = "it is a program on this PC; where that does not run, nothing can be fetched";
            evidence.push(why.to_owned());
        }
        found.push(blocker(
            "network",
            if is_local { Severity::MayFail } else { Severity::WorthKnowing },
            format!("What setup fetches for {whose} goes {what}"),
            Some(Place::value(key.as_str(), name)),
            evidence,
            "Try without it, or bring the full installer: `stubble payload` looks for one.".to_owned(),
        ));
    }
    found
}
