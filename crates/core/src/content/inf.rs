//! The file that describes a driver package. Its layout is publicly documented ("Overview of INF Files", "INF Version
//! Section", "INF SourceDisksFiles Section", "INF Manufacturer Section", "INF Models Section", "INF AddComponent Directive").

use std::collections::{BTreeMap, BTreeSet};

use crate::model::text::{fold, from_file};

/// Classes whose packages add to another one: they have no driver for a device of their own.
const ADDING: [&str; 2] = ["EXTENSION", "SOFTWARECOMPONENT"];

/// What an INF says of its package.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inf {
    /// Its name, as it lies on the machine or in the installer.
    pub name: String,
    /// Who made it.
    pub provider: String,
    /// The class of its devices.
    pub class: String,
    /// Identifiers of the hardware that it is for, folded.
    pub hardware: BTreeSet<String>,
    /// Files that it brings, folded.
    pub files: BTreeSet<String>,
    /// Whether it is a part among others (a base with extensions and components), or everything in one.
    pub in_parts: bool,
}

/// Reads an INF; `None` where the bytes are none.
pub fn parse(name: &str, bytes: &[u8]) -> Option<Inf> {
    let text = from_file(bytes);
    let sections = sections(&text);
    let version = sections.get("VERSION")?;
    let strings: BTreeMap<String, &str> =
        sections.get("STRINGS").into_iter().flatten().map(|(name, value)| (fold(name), unquoted(value))).collect();
    let plain = |text: &str| {
        let token = text.strip_prefix('%').and_then(|text| text.strip_suffix('%'));
        token.and_then(|token| strings.get(&fold(token)).copied()).unwrap_or(text).to_owned()
    };
    let of = |wanted: &str| {
        let row = version.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted));
        row.map(|(_, value)| plain(unquoted(value))).unwrap_or_default()
    };
    let class = of("Class");
    let adds = sections.values().flatten().any(|(name, _)| name.eq_ignore_ascii_case("AddComponent"));
    Some(Inf {
        name: name.to_owned(),
        provider: of("Provider"),
        in_parts: adds || ADDING.contains(&fold(&class).as_str()),
        hardware: hardware(&sections),
        files: files(&sections),
        class,
    })
}

type Sections<'t> = BTreeMap<String, Vec<(&'t str, &'t str)>>;

/// Lines of every section as name and value, by the section's folded name.
fn sections(text: &str) -> Sections<'_> {
    let mut found = Sections::new();
    let mut at = None;
    for line in text.lines() {
        let line = line.split(';').next().unwrap_or_default().trim().trim_start_matches('\u{feff}');
        if let Some(name) = line.strip_prefix('[') {
            at = name.split(']').next().map(|name| fold(name.trim()));
            continue;
        }
        let Some(section) = at.as_ref().filter(|_| !line.is_empty()) else { continue };
        let (name, value) = line.split_once('=').unwrap_or((line, ""));
        found.entry(section.clone()).or_default().push((name.trim(), value.trim()));
    }
    found
}

/// Files on the package's own disks, for any architecture.
fn files(sections: &Sections<'_>) -> BTreeSet<String> {
    let lists = sections.iter().filter(|(name, _)| name.split('.').next() == Some("SOURCEDISKSFILES"));
    lists.flat_map(|(_, lines)| lines).map(|(name, _)| fold(unquoted(name))).collect()
}

/// Hardware of all sections that the makers' list names, with every system that they are for.
fn hardware(sections: &Sections<'_>) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    for (_, value) in sections.get("MANUFACTURER").into_iter().flatten() {
        let mut parts = value.split(',').map(|part| fold(part.trim()));
        let Some(models) = parts.next() else { continue };
        let for_systems = parts.map(|system| format!("{models}.{system}"));
        for name in std::iter::once(models.clone()).chain(for_systems) {
            for (_, value) in sections.get(&name).into_iter().flatten() {
                let ids = value.split(',').skip(1).map(|id| fold(unquoted(id.trim())));
                found.extend(ids.filter(|id| id.contains('\\')));
            }
        }
    }
    found
}

fn unquoted(text: &str) -> &str {
    text.trim().trim_matches('"')
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = "[Version]\r\nSignature=\"$Windows NT$\"\r\nClass=Ports ; the scale's\r\nProvider=%Maker%\r\n\
        [Manufacturer]\r\n%Maker%=Scales,NTamd64\r\n[Scales.NTamd64]\r\n%Scale%=Install,USB\\VID_F3A1&PID_0051,\
        USB\\VID_F3A1\r\n[Install]\r\nCopyFiles=Files\r\n[Strings]\r\nMaker=\"Fennelgate Instruments\"\r\n";

    #[test]
    fn a_whole_package_and_one_in_parts_are_told_apart() {
        let whole = parse("qlscale.inf", WHOLE.as_bytes()).unwrap();
        assert_eq!((whole.provider.as_str(), whole.class.as_str()), ("Fennelgate Instruments", "Ports"));
        assert_eq!(whole.hardware, ["USB\\VID_F3A1", "USB\\VID_F3A1&PID_0051"].map(str::to_owned).into());
        assert!(!whole.in_parts);
        let adding = WHOLE.replace("CopyFiles=Files", "AddComponent = FennelgatePanel,,Panel");
        assert!(parse("qlscale.inf", adding.as_bytes()).unwrap().in_parts);
        let extension = WHOLE.replace("Class=Ports", "Class=Extension");
        let wide: Vec<u8> =
            [0xFF, 0xFE].into_iter().chain(extension.encode_utf16().flat_map(u16::to_le_bytes)).collect();
        assert!(parse("qlscale.inf", &wide).unwrap().in_parts);
        assert_eq!(parse("notes.txt", b"no section"), None);
    }
}
