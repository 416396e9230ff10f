//! The text form: what is exported is imported again, and hand-written texts are understood.

use crate::hives;

use hives::{apply, edits, empty, units};
use proptest::prelude::*;
use stubble_hive::reg::{Encoding, Entry, parse};
use stubble_hive::{Hive, What, differences};

const MOUNT: &str = "HKEY_LOCAL_MACHINE\\SOFTWARE";

fn entries(text: &str) -> Vec<Entry> {
    parse(text.as_bytes()).unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[test]
fn an_export_makes_the_same_content_again() {
    let mut hive = empty();
    for (number, edit) in edits(400).iter().enumerate() {
        apply(&mut hive, edit, number as u64);
    }
    let exported = hive.export(hive.root(), &units(MOUNT), Encoding::Utf16).unwrap();
    let mut again = empty();
    again.import(&parse(&exported).unwrap(), &units(MOUNT), 9).unwrap();
    // Times, classes and access lists have no place in the format; all else is the same.
    let left: Vec<_> = differences(&hive, &again)
        .unwrap()
        .into_iter()
        .filter(|change| !matches!(change.what, What::Time | What::Class | What::Security))
        .collect();
    assert_eq!(left, []);
}

#[test]
fn the_text_is_what_a_person_expects() {
    let mut hive = empty();
    let root = hive.root();
    let key = hive.create_key(root, &units("Fennelgate"), 9).unwrap();
    let long: Vec<u8> = (0..30).collect();
    for (name, kind, data) in [
        ("", 1, utf16("Scale \"A\" on C:\\Scales\0")),
        ("Level", 4, vec![0x2A, 0, 0, 0]),
        ("Short", 4, vec![1]),
        ("Raw", 3, long),
        ("Path", 2, utf16("%ProgramFiles%\0")),
        ("Two lines", 1, utf16("a\r\nb\0")),
        ("No end", 1, utf16("open")),
    ] {
        hive.set_value(key, &units(name), kind, &data, None, 9).unwrap();
    }
    let exported = hive.export(key, &units("HKEY_LOCAL_MACHINE\\SOFTWARE\\Fennelgate"), Encoding::Utf8).unwrap();
    let expected = r#"Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\SOFTWARE\Fennelgate]
@="Scale \"A\" on C:\\Scales"
"Level"=dword:0000002a
"Short"=hex(4):01
"Raw"=hex:00,01,02,03,04,05,06,07,08,09,0a,0b,0c,0d,0e,0f,10,11,12,13,14,15,16,\
  17,18,19,1a,1b,1c,1d
"Path"=hex(2):25,00,50,00,72,00,6f,00,67,00,72,00,61,00,6d,00,46,00,69,00,6c,\
  00,65,00,73,00,25,00,00,00
"Two lines"=hex(1):61,00,0d,00,0a,00,62,00,00,00
"No end"=hex(1):6f,00,70,00,65,00,6e,00

"#;
    assert_eq!(text(&exported), expected.replace('\n', "\r\n"));
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

#[test]
fn a_hand_written_text_is_understood() {
    let written = "\u{feff}Windows Registry Editor Version 5.00\n\n; a remark\n\
        [HKEY_LOCAL_MACHINE\\SOFTWARE\\Scale [old]]\n\
        \"Name\" = \"two\nlines\" ; behind\n\
        \"Bytes\"=hex:0, 1,\\\n   2,ff\n\"Empty\"=hex(0):\n\"Gone\"=-\n@=dword:A\n\
        [-HKEY_LOCAL_MACHINE\\SOFTWARE\\Bridge]\n";
    let key = units("HKEY_LOCAL_MACHINE\\SOFTWARE\\Scale [old]");
    let value = |name: &str, kind, data: Vec<u8>| Entry::Value { key: key.clone(), name: units(name), kind, data };
    let expected = [
        Entry::Key { key: key.clone() },
        value("Name", 1, utf16("two\nlines\0")),
        value("Bytes", 3, vec![0, 1, 2, 255]),
        value("Empty", 0, vec![]),
        Entry::DropValue { key: key.clone(), name: units("Gone") },
        value("", 4, vec![10, 0, 0, 0]),
        Entry::DropKey { key: units("HKEY_LOCAL_MACHINE\\SOFTWARE\\Bridge") },
    ];
    assert_eq!(entries(written), expected);
    let utf16: Vec<u8> = written.encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert_eq!(parse(&utf16).unwrap(), expected);
}

#[test]
fn import_changes_what_it_says_and_stays_below_its_key() {
    let mut hive = empty();
    let root = hive.root();
    let doomed = hive.create_key(root, &units("Bridge"), 9).unwrap();
    hive.create_key(doomed, &units("Below"), 9).unwrap();
    hive.set_value(root, &units("Gone"), 1, b"x\0", None, 9).unwrap();
    let head = "Windows Registry Editor Version 5.00\r\n";
    let change = format!(
        "{head}[-{MOUNT}\\BRIDGE]\r\n[-{MOUNT}\\Never]\r\n[hkey_local_machine\\Software]\r\n\"GONE\"=-\r\n\"No\"=-\r\n"
    );
    hive.import(&entries(&change), &units(MOUNT), 10).unwrap();
    assert_eq!(hive.key(root).unwrap().subkeys, 0);
    assert_eq!(hive.key(root).unwrap().values, 0);
    let outside = format!("{head}[{MOUNT}32\\Scale]\r\n");
    let refused = hive.import(&entries(&outside), &units(MOUNT), 10);
    assert_eq!(refused, Err(stubble_hive::HiveError::Absent));
}

#[test]
fn errors_name_the_line() {
    let cases: [(&str, usize, &str); 9] = [
        ("REGEDIT4\n", 1, "it does not begin with the line of version 5 of the format"),
        ("\"x\"=\"y\"\n", 3, "a value stands outside of a key"),
        ("[HKLM\\A\n", 3, "the key's closing bracket is missing"),
        ("[HKLM\\\\A]\n", 3, "a part of the key's path is empty"),
        ("[HKLM\\A]\n\"x\"=\"y\n", 5, "the closing quote is missing"),
        ("[HKLM\\A]\n\"x\"=7\n", 4, "the value is none of \"text\", dword:, hex: or hex(n):"),
        ("[HKLM\\A]\n\"x\"=dword:123456789\n", 4, "a number has too many digits"),
        ("[HKLM\\A]\n\"x\"=hex:01,\\ 02\n", 4, "a backslash stands in the middle of a line of bytes"),
        ("[HKLM\\A]\n\"x\"=\"y\" z\n", 4, "something stands behind the end of the entry"),
    ];
    for (body, line, what) in cases {
        let text = if line == 1 { body.to_owned() } else { format!("Windows Registry Editor Version 5.00\n\n{body}") };
        let error = parse(text.as_bytes()).unwrap_err();
        assert_eq!((error.line, error.what), (line, what), "{body:?}");
    }
}

proptest! {
    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300), mark in any::<bool>()) {
        let mut text = if mark { vec![0xFF, 0xFE] } else { Vec::new() };
        text.extend(bytes);
        let _ = parse(&text);
    }

    #[test]
    fn any_value_survives_the_text(name in prop::collection::vec(1u16..0xFFFF, 0..20), kind in any::<u32>(),
        data in prop::collection::vec(any::<u8>(), 0..100)) {
        let mut hive = empty();
        let root = hive.root();
        hive.set_value(root, &name, kind, &data, None, 9).unwrap();
        let exported = hive.export(root, &units(MOUNT), Encoding::Utf16).unwrap();
        let mut again = empty();
        again.import(&parse(&exported).unwrap(), &units(MOUNT), 9).unwrap();
        let hive = Hive::parse(again.to_bytes(9)).unwrap();
        let value = &hive.values(root).unwrap()[0];
        prop_assert_eq!((value.name.units().collect::<Vec<_>>(), value.kind, value.data.to_vec()), (name, kind, data));
    }
}
