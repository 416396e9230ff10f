//! Access lists: who may do what with a file or a key. The layout is published as `SECURITY_DESCRIPTOR`, `ACL` and
//! `SID` in "[MS-DTYP]: Windows Data Types".

use super::PlaceKind;
use super::text::fold;

/// Rights to put something into a folder, or into a key: the bits have the same numbers.
pub const ADD: u32 = 0x2 | 0x4;

/// Rights that stand for others (`GENERIC_ALL`, `GENERIC_WRITE`).
const ANYTHING: u32 = 0x1000_0000;
const WRITING: u32 = 0x4000_0000;
/// An entry that only those below inherit (`INHERIT_ONLY_ACE`).
const BELOW_ONLY: u8 = 0x08;
/// Entries that files and folders below inherit (`OBJECT_INHERIT_ACE`, `CONTAINER_INHERIT_ACE`).
const FILES_BELOW: u8 = 0x01;
const FOLDERS_BELOW: u8 = 0x02;
/// Everything that can be done with a file or folder (`FILE_ALL_ACCESS`), and with a key (`KEY_ALL_ACCESS`).
const ALL_OF_FILE: u32 = 0x001F_01FF;
const ALL_OF_KEY: u32 = 0x000F_003F;
/// Bits of the control field: there is an access list, and one of audits (`SE_DACL_PRESENT`, `SE_SACL_PRESENT`).
const HAS_LIST: u16 = 0x0004;
const HAS_AUDITS: u16 = 0x0010;
/// The right to read the access list (`READ_CONTROL`), and an account that only our own entries name: the service
/// identifier of the name "Stubble", by the published rule. Nobody is a member of it.
const READ_CONTROL: u32 = 0x0002_0000;
const OURS: &str = "S-1-5-80-574832044-3544500503-3548991871-1833724487-3001152362";
/// Length of a descriptor's fixed part, in bytes.
const FIXED: usize = 20;

/// Accounts that every Windows knows, with their names.
const KNOWN: [(&str, &str); 7] = [
    ("S-1-1-0", "Everyone"),
    ("S-1-5-11", "Authenticated Users"),
    ("S-1-5-18", "SYSTEM"),
    ("S-1-5-32-544", "Administrators"),
    ("S-1-5-32-545", "Users"),
    ("S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464", "TrustedInstaller"),
    ("S-1-3-4", "the owner"),
];

/// As whom the package installer writes: the system, with all groups that it belongs to.
pub const SYSTEM: [&str; 4] = ["S-1-5-18", "S-1-5-32-544", "S-1-1-0", "S-1-5-11"];

/// An owner and an access list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccessList {
    /// The owner's identifier, as `S-1-5-18`.
    pub owner: Option<String>,
    /// The entries in their order; none at all is another thing than an empty list: everybody may do everything.
    entries: Option<Vec<Entry>>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Entry {
    allows: bool,
    who: String,
    rights: u32,
}

/// Why something may not be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// An entry denies it to this account.
    Denied(String),
    /// No entry allows it.
    NotAllowed,
}

impl AccessList {
    /// Reads a descriptor in its self-relative form. `None` where it is damaged.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let offset = |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?) as usize);
        let control = u16::from_le_bytes(bytes.get(2..4)?.try_into().ok()?);
        let owner = match offset(4)? {
            0 => None,
            at => Some(sid(bytes.get(at..)?)?.0),
        };
        let entries = match offset(16)? {
            at if control & 0x4 != 0 && at != 0 => Some(entries(bytes.get(at..)?)?),
            _ => None,
        };
        Some(Self { owner, entries })
    }

    /// Why setup, which writes as the system, may not put anything into the folder or key; `None` where it may.
    pub fn keeps_setup_out(&self) -> Option<Refusal> {
        self.refuses(&SYSTEM, ADD)
    }

    /// Why somebody who is all of these accounts may not do all of `rights`; `None` where he may. The entries are
    /// asked in their order, as Windows does.
    pub fn refuses(&self, who: &[&str], rights: u32) -> Option<Refusal> {
        let Some(entries) = &self.entries else { return None };
        let mut left = rights;
        for entry in entries.iter().filter(|entry| who.contains(&entry.who.as_str())) {
            let concerned = match entry.rights {
                all if all & ANYTHING != 0 => left,
                writes if writes & WRITING != 0 => left & (ADD | writes),
                some => left & some,
            };
            if concerned != 0 && !entry.allows {
                return Some(Refusal::Denied(entry.who.clone()));
            }
            left &= !concerned;
        }
        (left != 0).then_some(Refusal::NotAllowed)
    }
}

/// Returns the descriptor with entries in front of all others, by which SYSTEM and Administrators may do everything;
/// owner, group, audits and the other entries stay as they are. Entries are asked in their order, so that one which
/// denies something to everybody no longer applies to these two. The first entry is a mark that only we write: a forged
/// record cannot have us take rights away that others have given.
///
/// `None` where the descriptor is damaged or has no access list: everybody may do everything then.
pub fn opened(descriptor: &[u8], kind: PlaceKind) -> Option<Vec<u8>> {
    let parts = Parts::of(descriptor)?;
    let list = parts.list?;
    let (flags, rights) = match kind {
        PlaceKind::Key => (FOLDERS_BELOW, ALL_OF_KEY),
        _ => (FILES_BELOW | FOLDERS_BELOW, ALL_OF_FILE),
    };
    let mut entries = Vec::new();
    for (who, rights) in [(OURS, READ_CONTROL), (SYSTEM[0], rights), (SYSTEM[1], rights)] {
        entries.extend(entry_bytes(true, if who == OURS { 0 } else { flags }, who, rights)?);
    }
    let count = u16::from_le_bytes(list.get(4..6)?.try_into().ok()?).checked_add(3)?;
    let size = u16::try_from(list.len() + entries.len()).ok()?;
    let mut longer = list[..2].to_vec();
    longer.extend(size.to_le_bytes());
    longer.extend(count.to_le_bytes());
    longer.extend(&list[6..8]);
    longer.extend(entries);
    longer.extend(&list[8..]);
    Some(Parts { list: Some(&longer), ..parts }.to_bytes())
}

/// Whether two descriptors say the same: a system may write the parts of one in another order, or other marks of how it
/// came to be.
pub fn is_same(one: &[u8], other: &[u8]) -> bool {
    let parts = |bytes| Parts::of(bytes).map(|parts| (parts.owner, parts.group, parts.list));
    parts(one).is_some_and(|found| parts(other) == Some(found))
}

/// The parts of a descriptor, each as it is.
#[derive(Clone, Copy)]
struct Parts<'d> {
    control: u16,
    owner: &'d [u8],
    group: &'d [u8],
    audits: Option<&'d [u8]>,
    list: Option<&'d [u8]>,
}

impl<'d> Parts<'d> {
    fn of(bytes: &'d [u8]) -> Option<Self> {
        let control = u16::from_le_bytes(bytes.get(2..4)?.try_into().ok()?);
        let offset = |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?) as usize);
        let account = |at: usize| match offset(at)? {
            0 => Some(&bytes[..0]),
            at => bytes.get(at..at + sid(bytes.get(at..)?)?.1),
        };
        let list = |at: usize, mark: u16| match offset(at)? {
            at if control & mark != 0 && at != 0 => {
                let size = usize::from(u16::from_le_bytes(bytes.get(at + 2..at + 4)?.try_into().ok()?));
                bytes.get(at..at + size).filter(|list| list.len() >= 8).map(Some)
            }
            _ => Some(None),
        };
        let (owner, group) = (account(4)?, account(8)?);
        Some(Self { control, owner, group, audits: list(12, HAS_AUDITS)?, list: list(16, HAS_LIST)? })
    }

    fn to_bytes(self) -> Vec<u8> {
        let mut bytes = vec![0; FIXED];
        bytes[0] = 1;
        bytes[2..4].copy_from_slice(&self.control.to_le_bytes());
        let parts = [self.owner, self.group, self.audits.unwrap_or_default(), self.list.unwrap_or_default()];
        for (number, part) in parts.into_iter().enumerate() {
            if !part.is_empty() {
                let at = bytes.len() as u32;
                bytes[4 + number * 4..8 + number * 4].copy_from_slice(&at.to_le_bytes());
                bytes.extend(part);
            }
        }
        bytes
    }
}

/// The name of an account, where every Windows knows it.
pub fn known_account(sid: &str) -> Option<&'static str> {
    KNOWN.iter().find(|(known, _)| fold(known) == fold(sid)).map(|(_, name)| *name)
}

fn entries(list: &[u8]) -> Option<Vec<Entry>> {
    let count = u16::from_le_bytes(list.get(4..6)?.try_into().ok()?);
    let mut rest = list.get(8..)?;
    let mut found = Vec::new();
    for _ in 0..count {
        let (kind, flags) = (*rest.first()?, *rest.get(1)?);
        let size = usize::from(u16::from_le_bytes(rest.get(2..4)?.try_into().ok()?));
        let entry = rest.get(..size).filter(|entry| entry.len() >= 8)?;
        // Other kinds are for single properties of directory objects, or ask a program.
        if kind <= 1 && flags & BELOW_ONLY == 0 {
            let rights = u32::from_le_bytes(entry[4..8].try_into().ok()?);
            found.push(Entry { allows: kind == 0, who: sid(&entry[8..])?.0, rights });
        }
        rest = &rest[size..];
    }
    Some(found)
}

/// An identifier as text, and its length in bytes.
fn sid(bytes: &[u8]) -> Option<(String, usize)> {
    let (revision, count) = (*bytes.first()?, usize::from(*bytes.get(1)?));
    let authority = bytes.get(2..8)?.iter().fold(0_u64, |sum, byte| sum << 8 | u64::from(*byte));
    let parts = bytes.get(8..8 + count * 4)?.chunks_exact(4);
    let mut text = format!("S-{revision}-{authority}");
    for part in parts {
        text.push_str(&format!("-{}", u32::from_le_bytes(part.try_into().ok()?)));
    }
    Some((text, 8 + count * 4))
}

/// A descriptor with these entries (whether it allows, to whom, what), owned by the system.
pub fn descriptor(entries: &[(bool, &str, u32)]) -> Option<Vec<u8>> {
    let mut list = Vec::new();
    for (allows, who, rights) in entries {
        list.extend(entry_bytes(*allows, 0, who, *rights)?);
    }
    let owner = sid_bytes(SYSTEM[0])?;
    let mut bytes = vec![1, 0, 0x04, 0x80];
    for offset in [20, 0, 0, 20 + owner.len() as u32] {
        bytes.extend(u32::to_le_bytes(offset));
    }
    bytes.extend(owner);
    bytes.extend([2, 0]);
    bytes.extend((8 + list.len() as u16).to_le_bytes());
    bytes.extend((entries.len() as u16).to_le_bytes());
    bytes.extend([0, 0]);
    bytes.extend(list);
    Some(bytes)
}

fn entry_bytes(allows: bool, flags: u8, who: &str, rights: u32) -> Option<Vec<u8>> {
    let who = sid_bytes(who)?;
    let mut entry = vec![u8::from(!allows), flags];
    entry.extend((8 + who.len() as u16).to_le_bytes());
    entry.extend(rights.to_le_bytes());
    entry.extend(who);
    Some(entry)
}

fn sid_bytes(text: &str) -> Option<Vec<u8>> {
    let numbers: Vec<u64> = text.strip_prefix("S-")?.split('-').map(|part| part.parse().ok()).collect::<Option<_>>()?;
    let (revision, authority, parts) = (*numbers.first()?, *numbers.get(1)?, numbers.get(2..)?);
    let mut bytes = vec![revision as u8, parts.len() as u8];
    bytes.extend(&authority.to_be_bytes()[2..]);
    parts.iter().for_each(|part| bytes.extend((*part as u32).to_le_bytes()));
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    const FULL: u32 = 0x001F_01FF;
    const READ: u32 = 0x0012_00A9;

    fn refused(entries: &[(bool, &str, u32)]) -> Option<Refusal> {
        AccessList::parse(&descriptor(entries).unwrap()).unwrap().refuses(&SYSTEM, ADD)
    }

    /// As Windows itself writes it: the system and administrators may do everything, users read.
    #[test]
    fn a_descriptor_of_windows_is_read() {
        let hexadecimal = "010004841400000024000000000000003400000001020000000000052000000020020000010200000000000520\
                           000000200200000200480003000000000014009f01120001010000000000051200000000001800ff011f00010200\
                           0000000005200000002002000000001400890012000101000000000001000000\
                           00";
        let digits: Vec<u8> = hexadecimal.bytes().filter(u8::is_ascii_hexdigit).collect();
        let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap();
        let bytes: Vec<u8> = digits.chunks_exact(2).map(byte).collect();
        let list = AccessList::parse(&bytes).unwrap();
        assert_eq!(list.owner.as_deref(), Some("S-1-5-32-544"));
        assert_eq!(list.entries.as_ref().unwrap().len(), 3);
        assert_eq!(list.refuses(&SYSTEM, ADD), None);
        assert_eq!(list.refuses(&["S-1-1-0"], ADD), Some(Refusal::NotAllowed));
    }

    #[test]
    fn the_order_of_the_entries_decides() {
        let (everyone, system, users) = ("S-1-1-0", "S-1-5-18", "S-1-5-32-545");
        assert_eq!(refused(&[(true, system, FULL)]), None);
        assert_eq!(refused(&[(true, system, ANYTHING)]), None);
        assert_eq!(refused(&[(true, system, WRITING)]), None);
        assert_eq!(refused(&[(true, system, READ)]), Some(Refusal::NotAllowed));
        assert_eq!(refused(&[(true, users, FULL)]), Some(Refusal::NotAllowed));
        assert_eq!(refused(&[]), Some(Refusal::NotAllowed));
        assert_eq!(refused(&[(false, everyone, 0x2), (true, system, FULL)]), Some(Refusal::Denied(everyone.into())));
        assert_eq!(refused(&[(true, system, FULL), (false, everyone, 0x2)]), None);
        assert_eq!(refused(&[(true, system, 0x2), (true, everyone, 0x4)]), None);
    }

    #[test]
    fn an_opened_descriptor_lets_the_system_write_and_keeps_all_else() {
        let (everyone, users) = ("S-1-1-0", "S-1-5-32-545");
        let closed = descriptor(&[(false, everyone, ADD), (true, users, READ)]).unwrap();
        for kind in [PlaceKind::Folder, PlaceKind::Key] {
            let open = opened(&closed, kind).unwrap();
            let list = AccessList::parse(&open).unwrap();
            assert_eq!(list.refuses(&SYSTEM, ADD), None);
            assert_eq!(list.refuses(&[everyone, users], ADD), Some(Refusal::Denied(everyone.to_owned())));
            let was = AccessList::parse(&closed).unwrap();
            assert_eq!(list.owner, was.owner);
            assert_eq!(list.entries.unwrap()[3..], was.entries.unwrap());
            assert!(!is_same(&open, &closed));
            assert!(is_same(&open, &open));
        }
        // Without a list everybody may do everything; an empty one lets nobody in.
        let empty = descriptor(&[]).unwrap();
        assert_eq!(AccessList::parse(&opened(&empty, PlaceKind::Key).unwrap()).unwrap().refuses(&SYSTEM, ADD), None);
        let mut none = empty.clone();
        none[16..20].fill(0);
        assert_eq!(opened(&none, PlaceKind::Key), None);
        for end in 0..closed.len() {
            assert_eq!(opened(&closed[..end], PlaceKind::Folder), None, "{end}");
        }
    }

    #[test]
    fn the_same_descriptor_in_another_order_is_the_same() {
        let one = descriptor(&[(true, "S-1-5-18", FULL)]).unwrap();
        let parts = Parts::of(&one).unwrap();
        // The list before the owner, and a mark of inheritance.
        let mut other = one[..FIXED].to_vec();
        other[3] |= 0x04;
        let list = parts.list.unwrap();
        other[16..20].copy_from_slice(&(FIXED as u32).to_le_bytes());
        other[4..8].copy_from_slice(&((FIXED + list.len()) as u32).to_le_bytes());
        other.extend(list);
        other.extend(parts.owner);
        assert!(is_same(&one, &other));
        assert!(!is_same(&one, &descriptor(&[(true, "S-1-5-18", READ)]).unwrap()));
    }

    #[test]
    fn no_list_is_another_thing_than_an_empty_one() {
        let mut bytes = descriptor(&[]).unwrap();
        bytes[16..20].fill(0);
        assert_eq!(AccessList::parse(&bytes).unwrap().refuses(&SYSTEM, ADD), None);
    }

    #[test]
    fn a_damaged_descriptor_is_none() {
        let whole = descriptor(&[(true, "S-1-5-18", FULL), (false, "S-1-1-0", READ)]).unwrap();
        for end in 0..whole.len() {
            let _ = AccessList::parse(&whole[..end]);
        }
        assert_eq!(AccessList::parse(&whole[..whole.len() - 1]), None);
        for at in 0..whole.len() {
            let mut damaged = whole.clone();
            damaged[at] ^= 0xFF;
            if let Some(list) = AccessList::parse(&damaged) {
                let _ = list.refuses(&SYSTEM, ADD);
            }
        }
    }
}
