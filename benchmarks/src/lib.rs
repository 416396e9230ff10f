//! What the benchmarks work on: a large hive, a bare walk to compare with, a tree of files.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use stubble_hive::Hive;

/// Where `scripts/sample-hives.sh` puts real hives, and what is made of them.
pub fn samples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/sample-hives")
}

/// A real hive that the script has fetched, or `None` where it was not run.
pub fn sample(name: &str) -> Option<Vec<u8>> {
    fs::read(samples().join(name)).ok()
}

/// A hive of 114 MB: ten relocated copies of a real one under one root. Every cell lies as far
/// from its neighbours as in the original, which is what reading time depends on.
pub fn large() -> Option<PathBuf> {
    let path = samples().join("made/LARGE");
    if !path.is_file() {
        let real = sample("SYSTEM")?;
        fs::create_dir_all(path.parent()?).ok()?;
        fs::write(&path, relocated(&real, 10)).ok()?;
    }
    Some(path)
}

/// Copies of a hive's bins one behind the other, every offset moved along, and a new root over
/// the old ones, which are told apart by the first letter of their names.
fn relocated(real: &[u8], copies: u32) -> Vec<u8> {
    let len = word(real, 40);
    let bins = &real[4096..4096 + len as usize];
    let root = word(real, 36);
    let mut all = Vec::new();
    for copy in 0..copies {
        let mut moved = bins.to_vec();
        let mut mover = Mover { bins: &mut moved, by: copy * len, done: HashSet::new() };
        mover.key(root);
        let name = root as usize + 4 + 76;
        moved[name] = b'A' + copy as u8;
        let mut bin = 0;
        while bin < moved.len() {
            let size = word(&moved, bin + 8);
            set(&mut moved, bin + 4, copy * len + bin as u32);
            bin += size as usize;
        }
        all.extend(moved);
    }
    // One more bin: the new root, which is the old one's record with another list, and the list.
    let at = all.len() as u32;
    let mut bin = b"hbin".to_vec();
    bin.resize(4096, 0);
    set(&mut bin, 4, at);
    set(&mut bin, 8, 4096);
    let old = &bins[root as usize..root as usize + word(bins, root as usize).wrapping_neg() as usize];
    bin[32..32 + old.len()].copy_from_slice(old);
    let list = 32 + old.len();
    let size = 4 + 4 + copies as usize * 8;
    for (field, value) in [(20, copies), (28, at + list as u32), (36, 0), (40, u32::MAX)] {
        set(&mut bin, 32 + 4 + field, value);
    }
    set(&mut bin, list, (size as u32).next_multiple_of(8).wrapping_neg());
    bin[list + 4..list + 6].copy_from_slice(b"li");
    bin[list + 6..list + 8].copy_from_slice(&(copies as u16).to_le_bytes());
    for copy in 0..copies {
        set(&mut bin, list + 8 + copy as usize * 4, copy * len + root);
        set(&mut all, (copy * len + root) as usize + 4 + 16, at + 32);
    }
    // One ring of descriptors, and one key more that uses the first.
    let descriptor = |all: &[u8], copy: u32| word(all, (copy * len + root) as usize + 4 + 44);
    let first = descriptor(&all, 0);
    for copy in 1..copies {
        let other = descriptor(&all, copy);
        let (next, others_next) = (word(&all, first as usize + 8), word(&all, other as usize + 8));
        for (before, after) in [(first, others_next), (other, next)] {
            set(&mut all, before as usize + 8, after);
            set(&mut all, after as usize + 12, before);
        }
    }
    let users = word(&all, first as usize + 16);
    set(&mut all, first as usize + 16, users + 1);
    let rest = list + size.next_multiple_of(8);
    set(&mut bin, rest, (4096 - rest) as u32);
    all.extend(bin);
    let mut file = real[..4096].to_vec();
    set(&mut file, 36, at + 32);
    set(&mut file, 40, all.len() as u32);
    let sum = file[..508].chunks_exact(4).fold(0, |sum, part| sum ^ word(part, 0));
    set(&mut file, 508, sum);
    file.extend(all);
    file
}

fn word(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes"))
}

fn set(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

/// Adds the same number to every offset in the records below a key.
struct Mover<'b> {
    bins: &'b mut [u8],
    by: u32,
    done: HashSet<u32>,
}

impl Mover<'_> {
    /// Moves one offset, and tells what it was.
    fn offset(&mut self, at: usize) -> Option<u32> {
        let old = word(self.bins, at);
        if old == u32::MAX {
            return None;
        }
        set(self.bins, at, old + self.by);
        Some(old)
    }

    fn key(&mut self, nk: u32) {
        let at = nk as usize + 4;
        let (keys, values) = (word(self.bins, at + 20), word(self.bins, at + 36));
        self.offset(at + 16);
        self.offset(at + 48);
        if let Some(sk) = self.offset(at + 44).filter(|sk| self.done.insert(*sk)) {
            self.offset(sk as usize + 4 + 4);
            self.offset(sk as usize + 4 + 8);
        }
        let (list, values_list) = (self.offset(at + 28), self.offset(at + 40));
        for entry in 0..values as usize {
            let vk = self.offset(values_list.expect("a list of values") as usize + 4 + entry * 4);
            self.value(vk.expect("a value") as usize + 4);
        }
        if let Some(list) = list.filter(|_| keys > 0) {
            self.list(list as usize + 4);
        }
    }

    fn list(&mut self, at: usize) {
        let kind = [self.bins[at], self.bins[at + 1]];
        let count = usize::from(u16::from_le_bytes([self.bins[at + 2], self.bins[at + 3]]));
        let step = if matches!(&kind, b"lf" | b"lh") { 8 } else { 4 };
        for entry in 0..count {
            let old = self.offset(at + 4 + entry * step).expect("an entry");
            if &kind == b"ri" { self.list(old as usize + 4) } else { self.key(old) }
        }
    }

    fn value(&mut self, at: usize) {
        let size = word(self.bins, at + 4);
        if size == 0 || size >> 31 == 1 {
            return;
        }
        let Some(data) = self.offset(at + 8) else { return };
        let db = data as usize + 4;
        if size > 16344 && &self.bins[db..db + 2] == b"db" {
            let count = usize::from(u16::from_le_bytes([self.bins[db + 2], self.bins[db + 3]]));
            let list = self.offset(db + 4).expect("a list of segments") as usize + 4;
            for entry in 0..count {
                self.offset(list + entry * 4);
            }
        }
    }
}

/// The bare walk: follows lists and counts keys and values, checks nothing, keeps nothing.
pub fn count(file: &[u8]) -> (u64, u64) {
    let bins = &file[4096..];
    let word = |at: usize| u32::from_le_bytes(bins[at..at + 4].try_into().expect("four bytes")) as usize;
    let half = |at: usize| usize::from(u16::from_le_bytes([bins[at], bins[at + 1]]));
    let root = u32::from_le_bytes(file[36..40].try_into().expect("four bytes")) as usize;
    let (mut keys, mut values) = (0, 0);
    let mut waiting = vec![root];
    while let Some(nk) = waiting.pop() {
        keys += 1;
        let count = word(nk + 4 + 36);
        if count > 0 {
            let list = word(nk + 4 + 40);
            for entry in 0..count {
                let vk = word(list + 4 + entry * 4);
                values += u64::from(bins[vk + 4] == b'v');
            }
        }
        if word(nk + 4 + 20) == 0 {
            continue;
        }
        let top = word(nk + 4 + 28);
        let mut leaf = |at: usize| {
            let step = if matches!(&bins[at + 4..at + 6], b"lf" | b"lh") { 8 } else { 4 };
            waiting.extend((0..half(at + 6)).map(|entry| word(at + 8 + entry * step)));
        };
        if &bins[top + 4..top + 6] == b"ri" {
            (0..half(top + 6)).for_each(|entry| leaf(word(top + 8 + entry * 4)));
        } else {
            leaf(top);
        }
    }
    (keys, values)
}

/// A tree of `count` empty files, a hundred to a folder, around a small Windows installation.
pub fn many_files(count: usize) -> PathBuf {
    let root = samples().join(format!("made/tree-{count}"));
    let ready = root.join("ready");
    if !ready.is_file() {
        let _ = fs::remove_dir_all(&root);
        let config = root.join("disk/Windows/System32/config");
        fs::create_dir_all(&config).expect("room for a tree");
        for name in ["SOFTWARE", "SYSTEM"] {
            let mut hive = Hive::create(&[b'R'.into()], &[1, 0, 4, 0x80], 9).expect("a new hive");
            fs::write(config.join(name), hive.to_bytes(9)).expect("room for a hive");
        }
        for folder in 0..count / 100 {
            let (area, group) = (folder % 23, folder / 23);
            let path = root.join(format!("disk/ProgramData/Area {area}/Group {group:04}"));
            fs::create_dir_all(&path).expect("room for a folder");
            for file in 0..100 {
                let name = match file % 4 {
                    0 => format!("label-{file}.dat"),
                    1 => format!("Weighing list {folder}-{file}.qwl"),
                    2 => format!("component_{:08x}.dll", folder * 7919 + file),
                    _ => format!("cache-{}-{file}.bin", folder % 50),
                };
                fs::File::create(path.join(name)).expect("room for a file");
            }
        }
        fs::write(ready, "").expect("room for a file");
    }
    root.join("disk")
}

/// The bare walk of a tree of files: every name and its size and time, folders side by side.
pub fn walk(folder: &Path) -> (u64, u64) {
    use rayon::prelude::*;
    let Ok(listed) = fs::read_dir(folder) else { return (0, 0) };
    let (mut files, mut sum, mut folders) = (0, 0, Vec::new());
    for item in listed.flatten() {
        let Ok(meta) = item.metadata() else { continue };
        files += 1;
        sum += meta.len() + meta.modified().map_or(0, |time| time.elapsed().map_or(0, |age| age.as_secs() & 1));
        if meta.is_dir() {
            folders.push(item.path());
        }
    }
    let below = folders.par_iter().map(|folder| walk(folder)).reduce(|| (0, 0), |a, b| (a.0 + b.0, a.1 + b.1));
    (files + below.0, sum + below.1)
}

/// The most memory that this process has held so far, in bytes; zero where the system does not tell.
pub fn peak_memory() -> u64 {
    status("VmHWM:")
}

/// The memory that this process holds, in bytes.
pub fn memory() -> u64 {
    status("VmRSS:")
}

fn status(field: &str) -> u64 {
    let text = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find(|line| line.starts_with(field)).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|number| number.parse::<u64>().ok()).unwrap_or(0) * 1024
}
