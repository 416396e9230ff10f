//! Leaving names out: each person, machine and device is called the same throughout.

use serde_json::Value;

use crate::survey::Survey;
use crate::units::drivers::instances;

/// Names with what stands in their place.
#[derive(Clone, Debug, Default)]
pub struct Names {
    /// The longest first, so that no name is cut by a shorter one.
    pairs: Vec<(String, String)>,
}

impl Names {
    /// Names of people, of the machine, and serial numbers of devices, as a survey tells them.
    pub fn of(survey: &Survey) -> Self {
        let mut names = Self::default();
        let facts = &survey.facts;
        names.add(&facts.computer, "pc-1");
        for (number, user) in facts.users.iter().enumerate() {
            names.add(&user.sid, &format!("sid-{}", number + 1));
            names.add(&user.name, &format!("user-{}", number + 1));
            // The profile's folder may be called otherwise than the account.
            names.add(crate::model::path::leaf(&user.profile), &format!("user-{}", number + 1));
        }
        for (number, serial) in serials(survey).iter().enumerate() {
            names.add(serial, &format!("serial-{}", number + 1));
        }
        names.pairs.sort_by(|a, b| b.0.len().cmp(&a.0.len()).then(a.cmp(b)));
        names
    }

    fn add(&mut self, name: &str, instead: &str) {
        let is_known = self.pairs.iter().any(|(known, _)| known.eq_ignore_ascii_case(name));
        if name.len() > 1 && !is_known {
            self.pairs.push((name.to_owned(), instead.to_owned()));
        }
    }

    /// A text without them. A name counts where it stands as a word, in whatever letters.
    pub fn leave_out(&self, text: &str) -> String {
        let mut out = String::new();
        let mut rest = text;
        let mut before: Option<char> = None;
        while let Some(letter) = rest.chars().next() {
            let fitting = self.pairs.iter().find(|(name, _)| {
                let is_it = rest.get(..name.len()).is_some_and(|part| part.to_lowercase() == name.to_lowercase());
                let after = rest.get(name.len()..).and_then(|rest| rest.chars().next());
                is_it && !before.is_some_and(char::is_alphanumeric) && !after.is_some_and(char::is_alphanumeric)
            });
            match fitting {
                Some((name, instead)) => {
                    out.push_str(instead);
                    before = name.chars().next_back();
                    rest = &rest[name.len()..];
                }
                None => {
                    out.push(letter);
                    before = Some(letter);
                    rest = &rest[letter.len_utf8()..];
                }
            }
        }
        out
    }

    /// The same for every text in a document.
    pub fn leave_out_of(&self, document: Value) -> Value {
        match document {
            Value::String(text) => Value::String(self.leave_out(&text)),
            Value::Array(all) => Value::Array(all.into_iter().map(|one| self.leave_out_of(one)).collect()),
            Value::Object(fields) => Value::Object(
                fields.into_iter().map(|(name, one)| (self.leave_out(&name), self.leave_out_of(one))).collect(),
            ),
            other => other,
        }
    }
}

/// Serial numbers of devices: the last part of an identifier, where the device has one of its own. One that the
/// bus has made up holds an ampersand, as Microsoft's documentation of instance identifiers says.
fn serials(survey: &Survey) -> Vec<String> {
    let registry = &survey.registry;
    let connected = survey.running.devices.iter().map(|device| device.id.clone());
    let known: Vec<String> = connected.chain(instances(survey).into_iter().map(|one| registry.path(one))).collect();
    let mut serials: Vec<String> = known
        .iter()
        .filter_map(|id| id.rsplit_once('\\'))
        .map(|(_, serial)| serial.to_owned())
        .filter(|serial| serial.len() > 3 && !serial.contains('&'))
        .filter(|serial| serial.bytes().any(|letter| letter.is_ascii_digit()))
        .collect();
    serials.sort();
    serials.dedup();
    serials
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_go_as_words_and_the_same_throughout() {
        let mut names = Names::default();
        names.add("maren", "user-1");
        names.add("WEIGH-03", "pc-1");
        names.add("S-1-5-21-1", "sid-1");
        let text =
            "C:\\Users\\Maren\\a; settings of maren on weigh-03 (HKU\\S-1-5-21-1\\b); marenka stays, S-1-5-21-12 too";
        assert_eq!(
            names.leave_out(text),
            "C:\\Users\\user-1\\a; settings of user-1 on pc-1 (HKU\\sid-1\\b); marenka stays, S-1-5-21-12 too"
        );
    }
}
