//! Two images of one NTFS volume, read by a reader that shares nothing with us: what a clear and
//! a putback leave is what was there before. `scripts/ntfs-suite.sh` makes the images.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read, Seek};

use ntfs::{Ntfs, NtfsAttributeType, NtfsFile, NtfsReadSeek};
use stubble_hive::{Hive, differences};

/// Ends of the names of files that hold the registry; they are compared key by key.
const HIVES: [&str; 4] = ["/SOFTWARE", "/SYSTEM", "/NTUSER.DAT", "/UsrClass.dat"];

type Image = BTreeMap<String, String>;

struct Reader<F> {
    volume: F,
    all: Image,
    hives: BTreeMap<String, Vec<u8>>,
}

fn read(path: &str) -> (Image, BTreeMap<String, Vec<u8>>) {
    let mut volume = BufReader::new(File::open(path).unwrap());
    let mut ntfs = Ntfs::new(&mut volume).unwrap();
    ntfs.read_upcase_table(&mut volume).unwrap();
    let root = ntfs.root_directory(&mut volume).unwrap();
    let mut reader = Reader { volume, all: Image::new(), hives: BTreeMap::new() };
    reader.folder(&ntfs, &root, "");
    (reader.all, reader.hives)
}

impl<F: Read + Seek> Reader<F> {
    fn folder(&mut self, ntfs: &Ntfs, folder: &NtfsFile<'_>, path: &str) {
        let index = folder.directory_index(&mut self.volume).unwrap();
        let mut entries = index.entries();
        let mut below = Vec::new();
        while let Some(entry) = entries.next(&mut self.volume) {
            let entry = entry.unwrap();
            let name = entry.key().unwrap().unwrap();
            let text = name.name().to_string_lossy();
            below.push((text, format!("{:?}", name.namespace()), entry.file_reference()));
        }
        for (name, namespace, reference) in below {
            // The volume's own files, and the folder in which we hold things.
            if path.is_empty() && name.starts_with('$') || name == "." {
                continue;
            }
            let path = format!("{path}/{name}");
            let file = reference.to_file(ntfs, &mut self.volume).unwrap();
            self.file(&file, &path, &namespace);
            if file.is_directory() && namespace != "Dos" {
                self.folder(ntfs, &file, &path);
            }
        }
    }

    fn file(&mut self, file: &NtfsFile<'_>, path: &str, namespace: &str) {
        let info = file.info().unwrap();
        let is_hive = HIVES.iter().any(|hive| path.ends_with(hive));
        let mut told = format!(
            "{namespace} created {} attributes {:?}",
            info.creation_time().nt_timestamp(),
            info.file_attributes(),
        );
        // A hive is a new file with the old one's access list, which the driver may store in another
        // way; the script compares what it reads back.
        if !is_hive {
            told.push_str(&format!(" access list {:?}", info.security_id()));
        }
        let mut attributes = file.attributes();
        while let Some(item) = attributes.next(&mut self.volume) {
            let item = item.unwrap();
            let attribute = item.to_attribute().unwrap();
            let kind = attribute.ty().unwrap();
            let name = attribute.name().unwrap().to_string_lossy();
            let is_content = matches!(
                kind,
                NtfsAttributeType::Data
                    | NtfsAttributeType::ReparsePoint
                    | NtfsAttributeType::EA
                    | NtfsAttributeType::SecurityDescriptor
                    | NtfsAttributeType::ObjectId
            );
            if !is_content || is_hive && kind == NtfsAttributeType::SecurityDescriptor {
                continue;
            }
            let mut bytes = vec![0; attribute.value_length() as usize];
            attribute.value(&mut self.volume).unwrap().read_exact(&mut self.volume, &mut bytes).unwrap();
            if is_hive && kind == NtfsAttributeType::Data && name.is_empty() {
                self.hives.insert(path.to_owned(), bytes);
            } else {
                told.push_str(&format!("; {kind:?} {name:?} {} bytes {:x}", bytes.len(), digest(&bytes)));
            }
        }
        // The time of a folder that holds a hive moves with every write of the hive.
        let holds_hive = path.ends_with("/config")
            || path.ends_with("/Windows") && path.contains("AppData")
            || path.matches('/').count() == 2 && path.starts_with("/Users/");
        if !is_hive && !holds_hive {
            told.push_str(&format!("; changed {}", info.modification_time().nt_timestamp()));
        }
        self.all.insert(format!("{path} {namespace}"), told);
    }
}

/// FNV-1a: enough to see a difference.
fn digest(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xCBF2_9CE4_8422_2325, |sum, byte| (sum ^ u64::from(*byte)).wrapping_mul(0x100_0000_01B3))
}

#[test]
#[ignore = "needs two images; scripts/ntfs-suite.sh makes them"]
fn putback_restores_the_volume_to_the_last_stream() {
    let image = |name: &str| std::env::var(name).unwrap_or_else(|_| panic!("{name} names an image"));
    let (before, hives_before) = read(&image("STUBBLE_BEFORE"));
    let (cleared, _) = read(&image("STUBBLE_CLEARED"));
    let (after, hives_after) = read(&image("STUBBLE_AFTER"));
    assert!(before.len() > 1000, "{} entries", before.len());
    for what in ["Data \"note\"", "ReparsePoint", "PROGRA~1", "HIDDEN"] {
        assert!(before.iter().any(|(path, told)| path.contains(what) || told.contains(what)), "{what} is not there");
    }
    let gone = before.keys().filter(|path| !cleared.contains_key(*path)).count();
    assert!(gone > 50, "{gone} entries were taken");
    assert_eq!(cleared.keys().filter(|path| !before.contains_key(*path)).count(), 0);
    for path in before.keys().chain(after.keys()) {
        assert_eq!(before.get(path), after.get(path), "{path}");
    }
    assert_eq!(hives_before.len(), hives_after.len());
    for (path, bytes) in hives_before {
        let (old, new) = (Hive::parse(bytes).unwrap(), Hive::parse(hives_after[&path].clone()).unwrap());
        assert_eq!(differences(&old, &new).unwrap(), [], "{path}");
    }
}
