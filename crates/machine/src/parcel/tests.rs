use super::*;

/// Names, kinds, contents, times, modes and links of everything below a folder.
fn picture(top: &Path) -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    let mut open = vec![top.to_owned()];
    while let Some(path) = open.pop() {
        let meta = fs::symlink_metadata(&path).unwrap();
        let content = match meta.file_type() {
            kind if kind.is_dir() => {
                open.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
                "folder".to_owned()
            }
            kind if kind.is_symlink() => format!("to {}", fs::read_link(&path).unwrap().display()),
            _ => format!("{} {:?}", names(&meta), fs::read(&path).unwrap()),
        };
        let time = Stamp::from_last_modification_time(&meta);
        found.push((path.strip_prefix(top).unwrap().to_owned(), format!("{content} {time} {:o}", rights(&meta).0)));
    }
    found.sort();
    found
}

#[test]
fn a_parcel_comes_out_as_it_went_in_and_holds_the_same_content_once() {
    let room = tempfile::tempdir().unwrap();
    let (from, store, listing) = (room.path().join("from"), room.path().join("store"), room.path().join("it.json"));
    fs::create_dir_all(from.join("a/empty")).unwrap();
    fs::write(from.join("a/one"), b"the same").unwrap();
    fs::write(from.join("a/two"), b"the same").unwrap();
    fs::hard_link(from.join("a/one"), from.join("three")).unwrap();
    fs::write(from.join("none"), b"").unwrap();
    std::os::unix::fs::symlink("/nowhere/at all", from.join("a/link")).unwrap();
    filetime::set_file_mtime(from.join("a/empty"), Stamp::from_unix_time(5, 700)).unwrap();
    filetime::set_file_mtime(from.join("a/two"), Stamp::from_unix_time(1_000_000_000, 100)).unwrap();
    let before = picture(&from);
    pack(&from, Depth::Whole, &store, &listing).unwrap();
    assert_eq!(fs::read_dir(&store).unwrap().count(), 2, "two contents");
    assert_eq!(check(&listing, &store).unwrap(), 16);
    unpack(&listing, &store, &room.path().join("to")).unwrap();
    assert_eq!(picture(&room.path().join("to")), before);

    // A listing may be forged: nothing is made below a link, and no program gets another's rights.
    let text = fs::read_to_string(&listing).unwrap();
    let link = text.replace("\"kind\":\"folder\"", "\"kind\":\"link\",\"to\":\"/tmp\"");
    assert_ne!(link, text);
    let forged = room.path().join("forged.json");
    fs::write(&forged, link).unwrap();
    let refused = unpack(&forged, &store, &room.path().join("forged"));
    assert!(matches!(refused, Err(MachineError::Refused { .. })), "{refused:?}");
    assert!(!room.path().join("forged").exists());
    let mode = text.find("\"mode\":").unwrap() + 7;
    let ends = mode + text[mode..].find(',').unwrap();
    fs::write(&forged, format!("{}{}{}", &text[..mode], 0o106_777, &text[ends..])).unwrap();
    unpack(&forged, &store, &room.path().join("forged")).unwrap();
    assert_eq!(rights(&fs::metadata(room.path().join("forged")).unwrap()).0 & 0o6000, 0);

    // A part of it, in which a second name has lost its first one.
    let part = room.path().join("part");
    unpack_part(&listing, &["a".to_owned()], &store, &part).unwrap();
    let alone = |picture: Vec<(PathBuf, String)>| {
        picture.into_iter().map(|(path, told)| (path, told.replacen("2 ", "1 ", 1))).collect::<Vec<_>>()
    };
    assert_eq!(alone(picture(&part)), alone(picture(&from.join("a"))));
    unpack_part(&listing, &["three".to_owned()], &store, &room.path().join("three")).unwrap();
    assert_eq!(fs::read(room.path().join("three")).unwrap(), b"the same");
    let nowhere = unpack_part(&listing, &["b".to_owned()], &store, &room.path().join("b"));
    assert!(matches!(nowhere, Err(MachineError::Absent(_))));

    let content = contents(&listing).unwrap().into_iter().find(|name| store.join(name).metadata().unwrap().len() > 0);
    fs::write(store.join(content.unwrap()), b"the sane").unwrap();
    assert!(matches!(check(&listing, &store), Err(MachineError::Refused { .. })));
    assert!(matches!(unpack(&listing, &store, &room.path().join("again")), Err(MachineError::Refused { .. })));
    remove(&from).unwrap();
    assert!(!from.exists());
}

#[test]
fn a_listing_that_climbs_out_is_refused() {
    let room = tempfile::tempdir().unwrap();
    let listing = room.path().join("it.json");
    for at in ["..", "a/b", "", "."] {
        let item = format!(r#"{{"at":["{at}"],"kind":"folder","modified":[0,0],"mode":0,"owner":[0,0]}}"#);
        fs::write(&listing, format!(r#"{{"format":"{FORMAT}","entries":[{item}]}}"#)).unwrap();
        let to = room.path().join("to");
        assert!(matches!(unpack(&listing, room.path(), &to), Err(MachineError::Refused { .. })), "{at}");
        assert!(!to.exists());
    }
}

/// Room that a file takes, in bytes.
#[cfg(target_os = "linux")]
fn room_of(path: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(path).unwrap().blocks() * 512
}

#[cfg(target_os = "linux")]
#[test]
fn holes_take_no_room_on_the_way_and_zeros_that_are_none_stay() {
    use std::io::{Seek, SeekFrom, Write};
    let room = tempfile::tempdir().unwrap();
    let (from, store, listing) = (room.path().join("from"), room.path().join("store"), room.path().join("it.json"));
    fs::create_dir(&from).unwrap();
    let mut image = File::create(from.join("image.vhd")).unwrap();
    image.set_len(64 << 20).unwrap();
    image.seek(SeekFrom::Start(9 << 20)).unwrap();
    image.write_all(&[7; 5000]).unwrap();
    drop(image);
    fs::write(from.join("zeros.bin"), vec![0; 3 << 20]).unwrap();
    if room_of(&from.join("image.vhd")) > 1 << 20 {
        return; // A file system without holes.
    }
    pack(&from, Depth::Whole, &store, &listing).unwrap();
    let held: u64 = fs::read_dir(&store).unwrap().map(|one| room_of(&one.unwrap().path())).sum();
    assert!(held < 1 << 20, "{held}");
    let to = room.path().join("to");
    unpack(&listing, &store, &to).unwrap();
    assert_eq!(picture(&to), picture(&from));
    assert!(room_of(&to.join("image.vhd")) < 1 << 20);
    assert!(room_of(&to.join("zeros.bin")) >= 3 << 20, "it had no holes");
}
