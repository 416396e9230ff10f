//! Disks of machines that do not run: which are recognised, which must not be written, and what
//! the hives say.

#![allow(clippy::disallowed_methods)]

use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::model::text::to_utf16;
use stubble_core::survey::compare::compare;
use stubble_hive::Hive;
use stubble_hive::logs::unfinished::{Format, unfinished};
use stubble_machine::bench::{demo, world};
use stubble_machine::disk::{Disk, find};
use stubble_machine::{Alter, MachineError, NoWrite, Observe};

const KEY: &str = "HKLM\\SOFTWARE\\Fennelgate\\Scale Desk";

fn demo_disk() -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("bench");
    world::build(demo::WORLD, &demo::package, &root).unwrap();
    let disk = root.join("disk");
    (folder, disk)
}

fn edit(disk: &Path, hive: &str, work: impl FnOnce(&mut Hive)) -> Vec<u8> {
    let path = disk.join(hive);
    let before = fs::read(&path).unwrap();
    let mut hive = Hive::parse(before.clone()).unwrap();
    work(&mut hive);
    fs::write(path, hive.to_bytes(9)).unwrap();
    before
}

fn key(hive: &mut Hive, path: &str) -> stubble_hive::KeyAt {
    path.split('\\').fold(hive.root(), |at, name| hive.create_key(at, &to_utf16(name), 9).unwrap())
}

fn text(hive: &mut Hive, path: &str, name: &str, value: &str) {
    let at = key(hive, path);
    let data: Vec<u8> = to_utf16(value).into_iter().chain([0]).flat_map(u16::to_le_bytes).collect();
    hive.set_value(at, &to_utf16(name), 2, &data, None, 9).unwrap();
}

const SOFTWARE: &str = "Windows/System32/config/SOFTWARE";
const SYSTEM: &str = "Windows/System32/config/SYSTEM";

#[cfg(unix)]
#[test]
fn a_pipe_in_the_place_of_a_hive_or_of_a_file_is_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    for path in ["Users/maren/NTUSER.DAT", "hiberfil.sys", "Windows/System32/pipe"] {
        let at = disk.join(path);
        let _ = fs::remove_file(&at);
        assert!(std::process::Command::new("mkfifo").arg(&at).status().unwrap().success());
    }
    let machine = Disk::mounted(&disk).unwrap();
    drop(machine.ready().unwrap());
    let survey = machine.survey().unwrap();
    assert!(survey.exists("C:\\Windows\\System32\\pipe"));
}

#[cfg(unix)]
#[test]
fn links_that_lead_in_a_circle_are_links_and_nothing_more() {
    let (_folder, disk) = demo_disk();
    let before = Disk::mounted(&disk).unwrap().survey().unwrap();
    let own = disk.join("Program Files/Fennelgate/Scale Desk");
    std::os::unix::fs::symlink(&own, own.join("again")).unwrap();
    std::os::unix::fs::symlink(disk.join("Program Files"), own.join("above")).unwrap();
    std::os::unix::fs::symlink(own.join("itself"), own.join("itself")).unwrap();
    let after = Disk::mounted(&disk).unwrap().survey().unwrap();
    let folder = "C:\\Program Files\\Fennelgate\\Scale Desk";
    for name in ["again", "above", "itself"] {
        let at = after.files.find(&format!("{folder}\\{name}")).unwrap();
        assert_eq!(after.files.data(at).kind, stubble_core::survey::EntryKind::Link, "{name}");
        assert_eq!(after.files.children(at).count(), 0, "{name}");
    }
    assert_eq!(after.files.len(), before.files.len() + 3);
}

/// What stands in the place of our own folder may be somebody's who waits for what we hold.
#[cfg(unix)]
#[test]
fn our_own_folder_is_no_link_to_elsewhere() {
    let (folder, disk) = demo_disk();
    let (own, elsewhere) = (disk.join("$Stubble"), folder.path().join("elsewhere"));
    fs::create_dir(&elsewhere).unwrap();
    let machine = Disk::mounted(&disk).unwrap();
    std::os::unix::fs::symlink(&elsewhere, &own).unwrap();
    assert!(machine.make_vault(None).unwrap_err().to_string().contains("no folder"));
    fs::remove_file(&own).unwrap();
    fs::create_dir(&own).unwrap();
    machine.make_vault(None).unwrap();
    assert_eq!(fs::read_dir(&elsewhere).unwrap().count(), 0);
}

#[test]
fn other_drives_are_named_once_and_guarded_like_the_first() {
    let (folder, disk) = demo_disk();
    let data = folder.path().join("data");
    fs::create_dir(&data).unwrap();
    let with = |drives: &[(&str, &Path)]| {
        let drives: Vec<_> = drives.iter().map(|(drive, root)| ((*drive).to_owned(), root.to_path_buf())).collect();
        Disk::mounted_with(&disk, &drives)
    };
    for twice in [&[("C:", data.as_path())][..], &[("D:", &data), ("d:", &data)]] {
        assert!(matches!(with(twice), Err(MachineError::Refused { .. })), "{twice:?}");
    }
    assert!(matches!(with(&[("D:", Path::new("/nowhere at all"))]), Err(MachineError::Absent(_))));
    let machine = with(&[("D:", &data)]).unwrap();
    drop(machine.ready().unwrap());
    machine.can_hold(&data, Some("D:\\Dairy")).unwrap();
    let absent = machine.can_hold(&data, Some("E:\\Dairy"));
    assert!(
        matches!(absent, Err(MachineError::DriveNotHere(_))),
        "nothing is held on a drive that is not here: {absent:?}"
    );
    // Another Windows is another machine's, wherever it is mounted.
    let machine = with(&[("D:", &disk)]).unwrap();
    let survey = machine.survey().unwrap();
    assert!(survey.files.find("D:").is_none() && survey.gaps.iter().any(|gap| gap.what == "D:\\"), "{:?}", survey.gaps);
}

/// The drive that this computer runs from is nobody's second drive.
#[cfg(unix)]
#[test]
fn a_drive_that_this_computer_runs_from_is_not_written() {
    let (_folder, disk) = demo_disk();
    let machine = Disk::mounted_with(&disk, &[("D:".to_owned(), "/".into())]).unwrap();
    assert!(matches!(machine.ready(), Err(MachineError::NotWritable { .. })));
}

#[test]
fn the_hives_tell_the_machine() {
    let (_folder, disk) = demo_disk();
    edit(&disk, SYSTEM, |hive| {
        text(hive, "ControlSet001\\Control\\TimeZoneInformation", "TimeZoneKeyName", "W. Europe Standard Time");
        let mounted = key(hive, "MountedDevices");
        let mut volume = |name: &str, data: &[u8]| {
            hive.set_value(mounted, &to_utf16(name), 3, data, None, 9).unwrap();
        };
        volume("\\DosDevices\\C:", &[1; 12]);
        volume("\\DosDevices\\D:", b"DMIO:ID:0123456789abcdef");
        volume(
            "\\DosDevices\\E:",
            &to_utf16("\\??\\USBSTOR#Disk").iter().flat_map(|u| u.to_le_bytes()).collect::<Vec<_>>(),
        );
        volume("\\??\\Volume{1}", &[2; 12]);
    });
    edit(&disk, "Users/maren/NTUSER.DAT", |hive| {
        let folders = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders";
        text(hive, folders, "AppData", "%USERPROFILE%\\AppData\\Roaming");
        text(hive, folders, "Personal", "D:\\Lists\\%USERNAME%");
    });
    let machine = Disk::mounted(&disk).unwrap();
    let facts = machine.facts();
    assert_eq!((facts.computer.as_str(), facts.build), ("WEIGH-03", 19045));
    assert_eq!(facts.time_zone, "W. Europe Standard Time");
    assert_eq!(facts.other_drives, ["D:"]);
    let maren = facts.users.iter().find(|user| user.name == "maren").unwrap();
    assert_eq!(maren.folder("Personal"), "D:\\Lists\\maren");
    assert_eq!(maren.folders.len(), 1, "what is in its usual place is not told: {:?}", maren.folders);
    assert_eq!(maren.roaming(), "C:\\Users\\maren\\AppData\\Roaming");
    let gaps = machine.survey().unwrap().gaps;
    assert!(gaps.iter().any(|gap| gap.what == "D:\\"), "a drive that is not here is said: {gaps:?}");
}

#[test]
fn the_windows_drive_has_the_letter_that_the_machine_gives_it() {
    let (_folder, disk) = demo_disk();
    fs::rename(disk.join("Windows"), disk.join("WINNT")).unwrap();
    edit(&disk, "WINNT/System32/config/SOFTWARE", |hive| {
        text(hive, "Microsoft\\Windows NT\\CurrentVersion", "SystemRoot", "E:\\WINNT");
        text(hive, "Microsoft\\Windows NT\\CurrentVersion\\ProfileList", "ProfilesDirectory", "%SystemDrive%\\Users");
    });
    let machine = Disk::mounted(&disk).unwrap();
    assert_eq!(machine.facts().windows, "E:\\WINNT");
    let survey = machine.survey().unwrap();
    assert!(survey.exists("E:\\WINNT\\System32"));
    assert!(!survey.exists("C:\\WINNT"));
}

#[test]
fn users_are_found_outside_the_usual_folder_and_without_an_entry() {
    let (_folder, disk) = demo_disk();
    fs::create_dir_all(disk.join("Profiles")).unwrap();
    fs::rename(disk.join("Users/night-shift"), disk.join("Profiles/night-shift")).unwrap();
    let list = "Microsoft\\Windows NT\\CurrentVersion\\ProfileList";
    let machine = Disk::mounted(&disk).unwrap();
    let sid = |name: &str| machine.facts().users.iter().find(|user| user.name == name).unwrap().sid.clone();
    let (night, maren) = (sid("night-shift"), sid("maren"));
    edit(&disk, SOFTWARE, |hive| {
        text(hive, &format!("{list}\\{night}"), "ProfileImagePath", "%SystemDrive%\\Profiles\\night-shift");
        let above = key(hive, list);
        hive.delete_key(above, &to_utf16(&maren), 9).unwrap();
    });
    // The access list of her own hive still names her.
    edit(&disk, "Users/maren/NTUSER.DAT", |hive| {
        let root = hive.root();
        let mut descriptor = hive.key(root).unwrap().security.to_vec();
        descriptor.extend([1, 5, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0]);
        for part in maren.rsplit('-').take(4).collect::<Vec<_>>().into_iter().rev() {
            descriptor.extend(part.parse::<u32>().unwrap().to_le_bytes());
        }
        hive.set_security(root, &descriptor).unwrap();
    });
    let machine = Disk::mounted(&disk).unwrap();
    let profiles: Vec<(&str, &str)> =
        machine.facts().users.iter().map(|user| (user.sid.as_str(), user.profile.as_str())).collect();
    assert_eq!(profiles, [(night.as_str(), "C:\\Profiles\\night-shift"), (maren.as_str(), "C:\\Users\\maren")]);
    let survey = machine.survey().unwrap();
    for sid in [night, maren] {
        assert!(survey.registry.key(&format!("HKU\\{sid}\\Software")).is_some());
    }
}

#[test]
fn one_installation_is_taken_and_several_are_listed() {
    let (folder, disk) = demo_disk();
    let old = disk.join("Windows.old/Windows/System32/config");
    fs::create_dir_all(&old).unwrap();
    for hive in [SOFTWARE, SYSTEM] {
        fs::copy(disk.join(hive), old.join(Path::new(hive).file_name().unwrap())).unwrap();
    }
    // The one at the top is meant; what an upgrade kept is used when it is named.
    assert_eq!(Disk::mounted(&disk).unwrap().root(), disk);
    let kept = Disk::mounted(&disk.join("Windows.old/Windows")).unwrap();
    assert_eq!(kept.root(), disk.join("Windows.old"));
    assert_eq!(find::installations(&disk).unwrap().len(), 2);
    fs::create_dir_all(disk.join("Second/System32/config")).unwrap();
    for hive in ["SOFTWARE", "SYSTEM"] {
        fs::copy(old.join(hive), disk.join("Second/System32/config").join(hive)).unwrap();
    }
    let Err(MachineError::SeveralInstallations { found, .. }) = Disk::mounted(&disk) else {
        panic!("two at the top are not told apart");
    };
    assert_eq!(found.len(), 3, "{found:?}");
    assert!(matches!(Disk::mounted(&disk.join("Users")), Err(MachineError::NotAMachine { .. })));
    assert!(matches!(Disk::mounted(&folder.path().join("nowhere")), Err(MachineError::Absent(_))));
}

fn refusal(disk: &Path) -> NoWrite {
    match Disk::mounted(disk).unwrap().ready() {
        Err(MachineError::NotWritable { why, .. }) => why,
        other => panic!("it may be written: {other:?}"),
    }
}

#[test]
fn a_sleeping_system_is_left_alone() {
    let (_folder, disk) = demo_disk();
    let image = disk.join("hiberfil.sys");
    for head in ["hibr", "HIBR", "RSTR"] {
        fs::write(&image, format!("{head} and memory")).unwrap();
        assert_eq!(refusal(&disk), NoWrite::Hibernated);
    }
    for head in ["wake", "WAKE", "\0\0\0\0"] {
        fs::write(&image, format!("{head} and memory")).unwrap();
        drop(Disk::mounted(&disk).unwrap().ready().unwrap());
    }
}

/// Leaves SOFTWARE as a power cut would, one key short of what its log holds.
fn leave_unfinished(disk: &Path, format: Format) -> Vec<u8> {
    let before = edit(disk, SOFTWARE, |hive| {
        key(hive, "Fennelgate\\From the log");
    });
    let path = disk.join(SOFTWARE);
    let after = fs::read(&path).unwrap();
    let (hive, log) = unfinished(&[&before, &after], format);
    fs::write(path, hive).unwrap();
    log
}

#[test]
fn an_unfinished_hive_is_completed_from_its_log_before_it_is_changed() {
    for format in [Format::Old, Format::New] {
        let (folder, disk) = demo_disk();
        let log = leave_unfinished(&disk, format);
        let log_path = disk.join(if format == Format::Old {
            "Windows/System32/config/SOFTWARE.LOG"
        } else {
            "Windows/System32/config/SOFTWARE.LOG2"
        });
        fs::write(&log_path, &log).unwrap();
        let machine = Disk::mounted(&disk).unwrap();
        let survey = machine.survey().unwrap();
        assert!(survey.registry.key("HKLM\\SOFTWARE\\Fennelgate\\From the log").is_some(), "{format:?}");
        assert!(!survey.files.below(0).iter().any(|at| survey.files.name(*at).starts_with("SOFTWARE.LOG")));
        drop(machine.ready().unwrap());
        let kept = folder.path().join("kept");
        machine.keep_registry(&kept).unwrap();
        let tree = machine.read_key(KEY).unwrap();
        let above = machine.delete_key(KEY).unwrap();
        assert_eq!(fs::metadata(&log_path).unwrap().len(), 0, "the log says nothing any more");
        let now = Disk::mounted(&disk).unwrap().survey().unwrap();
        assert!(now.registry.key("HKLM\\SOFTWARE\\Fennelgate\\From the log").is_some());
        assert!(now.registry.key(KEY).is_none());
        machine.restore_key(KEY, &tree, above).unwrap();
        assert_eq!(compare(&survey, &machine.survey().unwrap()), []);
        assert_eq!(
            fs::read(kept.join(log_path.file_name().unwrap().to_str().unwrap().replace("SOFTWARE", "HKLM SOFTWARE")))
                .unwrap(),
            log
        );
    }
}

#[test]
fn without_its_log_an_unfinished_hive_is_read_with_a_warning_and_not_changed() {
    let (_folder, disk) = demo_disk();
    leave_unfinished(&disk, Format::New);
    let bytes = fs::read(disk.join(SOFTWARE)).unwrap();
    let machine = Disk::mounted(&disk).unwrap();
    let survey = machine.survey().unwrap();
    assert!(survey.gaps.iter().any(|gap| gap.what.ends_with("SOFTWARE") && gap.why.contains("may be stale")));
    assert!(matches!(refusal(&disk), NoWrite::Stale { .. }));
    assert!(matches!(machine.delete_key(KEY), Err(MachineError::Hive { .. })));
    assert!(fs::read(disk.join(SOFTWARE)).unwrap() == bytes);
}

#[test]
fn a_users_damaged_hive_is_a_gap_and_the_rest_is_read() {
    let (_folder, disk) = demo_disk();
    let path = disk.join("Users/maren/NTUSER.DAT");
    let mut bytes = fs::read(&path).unwrap();
    for at in (4096 + 600..bytes.len()).step_by(512) {
        bytes[at] ^= 0x5A;
    }
    fs::write(&path, bytes).unwrap();
    let survey = Disk::mounted(&disk).unwrap().survey().unwrap();
    assert!(survey.gaps.iter().any(|gap| gap.what.ends_with("maren\\NTUSER.DAT")), "{:?}", survey.gaps);
    assert!(survey.registry.key(KEY).is_some());
    fs::remove_file(&path).unwrap();
    let survey = Disk::mounted(&disk).unwrap().survey().unwrap();
    assert!(survey.gaps.iter().any(|gap| gap.what.ends_with("maren\\NTUSER.DAT")), "a missing one is missed");
}

#[cfg(unix)]
#[test]
fn a_hive_that_is_a_link_is_neither_read_nor_replaced() {
    let (folder, disk) = demo_disk();
    let hive = disk.join("Users/maren/NTUSER.DAT");
    let outside = folder.path().join("outside.dat");
    fs::rename(&hive, &outside).unwrap();
    std::os::unix::fs::symlink(&outside, &hive).unwrap();
    let before = fs::read(&outside).unwrap();
    let machine = Disk::mounted(&disk).unwrap();
    let survey = machine.survey().unwrap();
    assert!(survey.gaps.iter().any(|gap| gap.what.ends_with("maren\\NTUSER.DAT") && gap.why.contains("link")));
    let sid = machine.facts().users.iter().find(|user| user.name == "maren").unwrap().sid.clone();
    assert!(survey.registry.key(&format!("HKU\\{sid}")).is_none());
    let key = format!("HKU\\{sid}\\Software");
    assert!(matches!(machine.delete_key(&key), Err(MachineError::Refused { .. })));
    machine.keep_registry(&folder.path().join("kept")).unwrap();
    assert!(!folder.path().join(format!("kept/HKU {sid}")).exists());
    assert!(fs::symlink_metadata(&hive).unwrap().is_symlink() && fs::read(outside).unwrap() == before);
}

#[test]
fn a_users_hive_that_leads_in_a_circle_is_a_gap() {
    let (_folder, disk) = demo_disk();
    let path = disk.join("Users/maren/NTUSER.DAT");
    let mut bytes = fs::read(&path).unwrap();
    let root = &bytes[36..40].to_vec();
    let list = bytes.windows(2).position(|bytes| bytes == b"lh").unwrap();
    bytes[list + 4..list + 8].copy_from_slice(root);
    fs::write(&path, bytes).unwrap();
    let survey = Disk::mounted(&disk).unwrap().survey().unwrap();
    assert!(survey.gaps.iter().any(|gap| gap.what.ends_with("maren\\NTUSER.DAT")), "{:?}", survey.gaps);
    assert!(survey.registry.key(KEY).is_some());
}

#[test]
fn folders_without_a_recorded_time_keep_theirs() {
    let folder = tempfile::tempdir().unwrap();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    for (path, above) in [("C:\\own.txt", ""), ("C:\\Users\\maren\\own.txt", "Users/maren")] {
        fs::write(disk.join(path[3..].replace('\\', "/")), "own").unwrap();
        let time = filetime::FileTime::from_unix_time(1_700_000_000, 0);
        filetime::set_file_mtime(disk.join(above), time).unwrap();
        let machine = Disk::mounted(&disk).unwrap();
        let held = folder.path().join("held");
        let taken = machine.take_entry(path, &held).unwrap();
        // A record has no time for such a folder.
        let above_it = stubble_machine::Above { before: Default::default(), ..taken };
        machine.return_entry(&held, path, above_it).unwrap();
        let now = filetime::FileTime::from_last_modification_time(&fs::metadata(disk.join(above)).unwrap());
        assert_eq!(now, time, "{path}");
    }
}

#[cfg(unix)]
#[test]
fn a_file_whose_name_is_no_text_changes_the_state_of_its_folder() {
    use std::os::unix::ffi::OsStrExt;
    use stubble_core::model::Place;
    use stubble_core::survey::state;
    let folder = tempfile::tempdir().unwrap();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    let place = Place::folder("C:\\Program Files\\Fennelgate\\Scale Desk");
    let now = || {
        let machine = Disk::mounted(&disk).unwrap();
        state::of(&machine.survey_of(std::slice::from_ref(&place)).unwrap(), &place).unwrap()
    };
    let before = now();
    let added = disk.join("Program Files/Fennelgate/Scale Desk").join(std::ffi::OsStr::from_bytes(b"own\xff.txt"));
    fs::write(&added, "own").unwrap();
    let with = now();
    assert_ne!(with, before);
    let machine = Disk::mounted(&disk).unwrap();
    let held = folder.path().join("Scale Desk");
    machine.take_entry(&place.path, &held).unwrap();
    assert_eq!(machine.state_of_held(&held).unwrap(), Some(with), "what is held has the state that was taken");
}

#[cfg(unix)]
#[test]
fn a_profile_that_is_a_link_stops_nothing() {
    let folder = tempfile::tempdir().unwrap();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    fs::rename(disk.join("Users/maren"), folder.path().join("elsewhere")).unwrap();
    std::os::unix::fs::symlink(folder.path().join("elsewhere"), disk.join("Users/maren")).unwrap();
    let machine = Disk::mounted(&disk).unwrap();
    drop(machine.ready().unwrap());
    machine.keep_registry(&folder.path().join("kept")).unwrap();
    machine.delete_key("HKLM\\SOFTWARE\\Fennelgate").unwrap();
}

/// Needs the right to mount; without it nothing is proved, and the test says so.
#[cfg(target_os = "linux")]
#[test]
#[allow(clippy::print_stderr)]
fn what_is_mounted_in_a_folder_is_neither_read_nor_removed() {
    use std::process::Command;
    use stubble_core::survey::EntryKind;
    use stubble_machine::parcel;
    let folder = tempfile::tempdir().unwrap();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    let own = "C:\\Program Files\\Fennelgate\\Scale Desk";
    let at = disk.join("Program Files/Fennelgate/Scale Desk/other disk");
    fs::create_dir(&at).unwrap();
    let mounted = Command::new("mount").args(["-t", "tmpfs", "none"]).arg(&at).output();
    if !mounted.is_ok_and(|out| out.status.success()) {
        eprintln!("skipped: mounting is not allowed here");
        return;
    }
    struct Unmount(PathBuf);
    impl Drop for Unmount {
        fn drop(&mut self) {
            let _ = Command::new("umount").arg(&self.0).status();
        }
    }
    let _unmount = Unmount(at.clone());
    fs::write(at.join("theirs"), "theirs").unwrap();
    let machine = Disk::mounted(&disk).unwrap();
    let survey = machine.survey().unwrap();
    let seen = survey.files.find(&format!("{own}\\other disk")).unwrap();
    assert_eq!(survey.files.data(seen).kind, EntryKind::Link);
    assert!(!survey.exists(&format!("{own}\\other disk\\theirs")));
    let held = folder.path().join("held");
    let refused = machine.take_entry(own, &held);
    assert!(matches!(&refused, Err(MachineError::Refused { why, .. }) if why.contains("mounted")), "{refused:?}");
    let top = disk.join("Program Files/Fennelgate/Scale Desk");
    assert!(parcel::remove(&top).is_err());
    let (store, listing) = (folder.path().join("store"), folder.path().join("it.json"));
    assert!(parcel::pack(&top, parcel::Depth::Whole, &store, &listing).is_err());
    assert_eq!(fs::read_to_string(at.join("theirs")).unwrap(), "theirs");
}
