//! Values that are lists: a search path, parted by semicolons, an order, parted by commas, or a list of texts.

use super::registry::{RegValue, kind};
use super::text::{fold, from_utf16};

/// A list value taken apart; put together again it is the same, to the last byte.
#[derive(Clone, Debug, PartialEq, Eq)]
struct List {
    parts: Vec<Vec<u16>>,
    /// What ends each part; a separator stands only between two.
    is_texts: bool,
    separator: u16,
    /// What stands behind the last part.
    tail: Vec<u8>,
}

/// What parts the entries of a text: in the orders of network providers it is a comma, among the libraries that every
/// program loads a comma or a space.
fn separator(name: &str, text: &[u16]) -> u16 {
    let comma = u16::from(b',');
    match fold(name).as_str() {
        "PROVIDERORDER" => comma,
        "APPINIT_DLLS" if text.contains(&comma) => comma,
        "APPINIT_DLLS" => u16::from(b' '),
        _ => u16::from(b';'),
    }
}

impl List {
    fn parse(name: &str, value_kind: u32, data: &[u8]) -> Option<Self> {
        let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let separator = separator(name, &units);
        match value_kind {
            kind::SZ | kind::EXPAND_SZ => {
                let end = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
                let parts = units[..end].split(|unit| *unit == separator).map(<[u16]>::to_vec).collect();
                Some(Self { parts, is_texts: false, separator, tail: data[end * 2..].to_vec() })
            }
            kind::MULTI_SZ => {
                let mut parts = Vec::new();
                let mut at = 0;
                while let Some(len) = units[at..].iter().position(|unit| *unit == 0).filter(|len| *len > 0) {
                    parts.push(units[at..at + len].to_vec());
                    at += len + 1;
                }
                Some(Self { parts, is_texts: true, separator, tail: data[at * 2..].to_vec() })
            }
            _ => None,
        }
    }

    fn data(&self) -> Vec<u8> {
        let mut units: Vec<u16> = Vec::new();
        for (number, part) in self.parts.iter().enumerate() {
            if number > 0 && !self.is_texts {
                units.push(self.separator);
            }
            units.extend(part);
            if self.is_texts {
                units.push(0);
            }
        }
        units.into_iter().flat_map(u16::to_le_bytes).chain(self.tail.iter().copied()).collect()
    }
}

fn is(part: &[u16], entry: &str) -> bool {
    fold(&from_utf16(part.iter().copied())) == fold(entry)
}

/// The entries of a list value with this name; none where it is no list.
pub fn entries(name: &str, value_kind: u32, data: &[u8]) -> Vec<String> {
    let parts = List::parse(name, value_kind, data).map(|list| list.parts).unwrap_or_default();
    parts.into_iter().filter(|part| !part.is_empty()).map(from_utf16).collect()
}

/// The value without an entry, wherever it stands in it; `None` where it does not.
pub fn without(value: &RegValue, entry: &str) -> Option<RegValue> {
    let mut list = List::parse(&value.name, value.kind, &value.data)?;
    let before = list.parts.len();
    list.parts.retain(|part| !is(part, entry));
    (list.parts.len() < before).then(|| RegValue { data: list.data(), ..value.clone() })
}

/// The value, which others have changed since, with the entry in it again: behind what it stood
/// behind in `was`, as far as that is still there. `None` where it stands in it already.
pub fn with_again(now: &RegValue, was: &RegValue, entry: &str) -> Option<RegValue> {
    let mut list = List::parse(&now.name, now.kind, &now.data)?;
    let old = List::parse(&was.name, was.kind, &was.data)?;
    let at = old.parts.iter().position(|part| is(part, entry))?;
    if list.parts.iter().any(|part| is(part, entry)) {
        return None;
    }
    list.parts.retain(|part| !part.is_empty() || list.is_texts);
    let stood_behind = &old.parts[..at];
    let same_place = |before: &Vec<u16>| {
        // As many of the same as stood before it.
        let count = stood_behind.iter().filter(|part| *part == before).count();
        let same = list.parts.iter().enumerate().filter(|(_, part)| *part == before);
        same.take(count).last().map(|(place, _)| place + 1)
    };
    let place = stood_behind.iter().rev().find_map(same_place).unwrap_or(0);
    list.parts.insert(place, old.parts[at].clone());
    Some(RegValue { data: list.data(), ..now.clone() })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn path(text: &str) -> RegValue {
        RegValue::expand("Path", text)
    }

    #[test]
    fn an_entry_goes_and_the_rest_stays_as_it_was_written() {
        let was = path("C:\\Windows;C:\\Program Files\\Fennelgate\\Bin;;%Tools%\\x;");
        assert_eq!(without(&was, "c:\\program files\\fennelgate\\BIN"), Some(path("C:\\Windows;;%Tools%\\x;")));
        assert_eq!(without(&was, "C:\\Program Files\\Fennelgate"), None);
        let list = RegValue::multi("Depends", &["RpcSs".into(), "Bridge".into()]);
        assert_eq!(without(&list, "bridge"), Some(RegValue::multi("Depends", &["RpcSs".into()])));
        assert_eq!(without(&RegValue::dword("Path", 1), "C:\\Windows"), None);
        let order = RegValue::text("ProviderOrder", "RDPNP,LanmanWorkstation,BrindleNet");
        assert_eq!(without(&order, "brindlenet"), Some(RegValue::text("ProviderOrder", "RDPNP,LanmanWorkstation")));
    }

    #[test]
    fn an_entry_comes_back_into_a_list_that_others_have_changed() {
        let was = path("C:\\Windows;C:\\Scale;C:\\Label");
        let now = path("C:\\New;C:\\Windows;C:\\Label");
        assert_eq!(with_again(&now, &was, "C:\\Scale"), Some(path("C:\\New;C:\\Windows;C:\\Scale;C:\\Label")));
        assert_eq!(with_again(&path("C:\\scale"), &was, "C:\\Scale"), None);
        assert_eq!(with_again(&path(""), &was, "C:\\Scale"), Some(path("C:\\Scale")));
    }

    proptest! {
        #[test]
        fn any_value_comes_back_to_the_byte(data in prop::collection::vec(any::<u8>(), 0..60), multi in any::<bool>()) {
            let kind = if multi { kind::MULTI_SZ } else { kind::SZ };
            prop_assert_eq!(List::parse("L", kind, &data).unwrap().data(), data);
        }

        #[test]
        fn out_and_in_again_is_the_same(names in prop::collection::vec("[a-d]{1,2}", 1..6), at in any::<prop::sample::Index>()) {
            let entry = at.get(&names).clone();
            for was in [path(&names.join(";")), RegValue::multi("L", &names)] {
                let out = without(&was, &entry).unwrap();
                let again = with_again(&out, &was, &entry).unwrap();
                let mut unique = names.clone();
                let mut seen = false;
                unique.retain(|name| name != &entry || !std::mem::replace(&mut seen, true));
                prop_assert_eq!(entries("L", again.kind, &again.data), unique);
            }
        }
    }
}
