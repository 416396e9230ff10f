//! Event logs: written as Windows writes them, read by an independent reader, and told as what they mean.

use stubble_core::logs::{Diagnosis, LogError, LogKind, Outcome, context, diagnose};
use stubble_machine::bench::world::{EventRow, write_events};

const COMPUTER: &str = "WEIGH-03";

fn event(at: &str, provider: &str, id: u32, level: u32, data: &[&str]) -> EventRow {
    let data = data.iter().map(|text| (*text).to_owned()).collect();
    EventRow { at: at.parse().unwrap(), provider: provider.into(), id, level, data, named: Vec::new() }
}

/// Another product is installed well, a service of Windows fails an hour before, then ours fails.
fn a_bad_morning() -> Vec<EventRow> {
    let installer = "MsiInstaller";
    vec![
        event("2026-03-02T05:30:00Z", "Service Control Manager", 7034, 2, &["Quern Spooler", "1"]),
        event("2026-03-02T06:10:00Z", installer, 1040, 4, &["C:\\Setup\\recipes.msi", "4120"]),
        event("2026-03-02T06:10:09Z", installer, 1033, 4, &["Quernstone Recipes", "2.1.0", "1033", "0", "Quernstone"]),
        event("2026-03-02T06:40:00Z", installer, 1040, 4, &["C:\\Users\\maren\\Downloads\\desk.msi", "5012"]),
        event("2026-03-02T06:40:31Z", "Service Control Manager", 7009, 2, &["30000", "Fennelgate Scale Bridge"]),
        event("2026-03-02T06:40:31Z", "Service Control Manager", 7000, 2, &["Fennelgate Scale Bridge", "%%1053"]),
        event(
            "2026-03-02T06:40:32Z",
            installer,
            11920,
            2,
            &["Product: Quernlight Scale Desk -- Error 1920. Service 'Fennelgate Scale Bridge' \
               (FennelgateScaleBridge) failed to start.  Verify that you have sufficient privileges."],
        ),
        event("2026-03-02T06:41:10Z", installer, 11708, 4, &["Product: Quernlight Scale Desk -- Installation failed."]),
        event(
            "2026-03-02T06:41:10Z",
            installer,
            1033,
            4,
            &["Quernlight Scale Desk", "5.2.0", "1033", "1603", "Fennelgate Instruments"],
        ),
        event("2026-03-02T06:41:12Z", installer, 1042, 4, &["C:\\Users\\maren\\Downloads\\desk.msi", "5012"]),
    ]
}

fn read(events: &[EventRow]) -> Diagnosis {
    diagnose(write_events(events, COMPUTER, 100).as_slice()).unwrap()
}

#[test]
fn the_install_that_failed_is_told_with_what_happened_meanwhile() {
    let log = write_events(&a_bad_morning(), COMPUTER, 100);
    let told = diagnose(log.as_slice()).unwrap();
    assert_eq!((told.kind, told.lines, told.runs.len()), (LogKind::Events, 10, 2));
    assert_eq!((told.runs[0].outcome, told.runs[0].whose.name.as_str()), (Outcome::Finished, "Quernstone Recipes"));
    let run = told.main().unwrap();
    assert_eq!((run.outcome, run.first_line, run.last_line), (Outcome::Failed, 103, 108));
    assert_eq!((run.whose.name.as_str(), run.whose.version.as_str()), ("Quernlight Scale Desk", "5.2.0"));
    assert_eq!(run.whose.package, "C:\\Users\\maren\\Downloads\\desk.msi");
    assert_eq!(run.code.as_ref().unwrap().code, "1603");
    let message = run.message.as_ref().unwrap();
    assert!(message.line == 106 && message.text.contains("Error 1920"), "{message:?}");
    assert!(run.means.is_some());
    let also: Vec<u64> = run.also.iter().map(|said| said.line).collect();
    assert_eq!(also, [104, 105, 107], "the service of this minute, not that of the hour before");
    assert!(run.codes.iter().any(|code| code.code == "1053" && code.meaning.is_some()), "{:?}", run.codes);
    let around = context(log.as_slice(), 106, 1).unwrap();
    assert_eq!(around.iter().map(|said| said.line).collect::<Vec<_>>(), [105, 106, 107]);
    assert!(around[0].text.contains("Service Control Manager 7000"), "{}", around[0].text);
}

#[test]
fn an_install_that_did_not_end_and_a_store_package() {
    let began = [event("2026-03-02T06:40:00Z", "MsiInstaller", 1040, 4, &["C:\\Setup\\desk.msi", "7"])];
    let run = read(&began).runs.remove(0);
    assert_eq!((run.outcome, run.last_action.unwrap().line), (Outcome::Stopped, 100));
    let store = "Microsoft-Windows-AppXDeploymentServer";
    let mut failed = event("2026-03-02T06:40:00Z", store, 404, 2, &[]);
    failed.named = [
        ("Name", "FennelgateInstruments.ScaleDesk_5.2.0.0_x64__8wekyb3d8bbwe"),
        ("ErrorCode", "0x80073CF6"),
        ("ErrorText", "the package could not be registered"),
    ]
    .map(|(name, value)| (name.to_owned(), value.to_owned()))
    .to_vec();
    let run = read(&[failed]).runs.remove(0);
    assert_eq!(run.outcome, Outcome::Failed);
    let text = run.message.unwrap().text;
    assert!(text.contains("ScaleDesk_5.2.0.0") && text.contains("could not be registered"), "{text}");
    assert!(run.codes.iter().any(|code| code.code == "0x80073CF6" && code.meaning.is_some()), "{:?}", run.codes);
}

#[test]
fn a_log_without_installs_tells_what_went_wrong_at_last() {
    let events = [
        event("2026-03-02T06:00:00Z", "Kernel-General", 12, 4, &["started"]),
        event("2026-03-02T06:40:00Z", "Service Control Manager", 7000, 2, &["Fennelgate Scale Bridge", "%%2"]),
        event(
            "2026-03-02T06:50:00Z",
            "Application Error",
            1000,
            2,
            &["desk.exe", "5.2.0.0", "65a0", "flgrt64.dll", "2.0.0.0", "65a1", "c0000005", "0001"],
        ),
    ];
    let run = read(&events).runs.remove(0);
    assert_eq!(run.outcome, Outcome::Unknown);
    let message = run.message.unwrap().text;
    assert!(message.contains("desk.exe 5.2.0.0") && message.contains("flgrt64.dll"), "{message}");
    assert_eq!(run.also[0].line, 101);
    assert_eq!(read(&events[..1]).runs, []);
}

/// A full log goes on at its beginning: its chunks are not in order.
#[test]
fn many_events_stand_in_many_chunks_in_any_order() {
    let mut events: Vec<EventRow> = (0..3000)
        .map(|number| event("2026-03-01T06:00:00Z", "Kernel-General", 16, 4, &[&format!("entry {number} of the day")]))
        .collect();
    events.extend(a_bad_morning());
    let log = write_events(&events, COMPUTER, 100);
    assert!(log.len() > 10 * (64 << 10));
    let told = diagnose(log.as_slice()).unwrap();
    assert_eq!((told.lines, told.main().unwrap().message.as_ref().unwrap().line), (3010, 3106));
    let (header, chunks) = log.split_at(4096);
    let mut turned = header.to_vec();
    let (first, last) = chunks.split_at(5 * (64 << 10));
    turned.extend(last);
    turned.extend(first);
    assert_eq!(diagnose(turned.as_slice()).unwrap(), told);
}

#[test]
fn what_is_cut_or_damaged_is_told_and_the_rest_is_read() {
    let log = write_events(&a_bad_morning(), COMPUTER, 100);
    assert_eq!(diagnose(log.as_slice()).unwrap().damaged, 0);
    for end in [0, 8, 100] {
        assert!(matches!(diagnose(&log[..end]), Err(LogError::NotALog(_))), "{end}");
    }
    // A chunk that was never used is none that is damaged.
    let unused = [log.as_slice(), &[0; 64 << 10]].concat();
    assert_eq!(diagnose(unused.as_slice()).unwrap(), diagnose(log.as_slice()).unwrap());
    let mut two = [log.as_slice(), &log[4096..]].concat();
    two[log.len()..log.len() + 8].copy_from_slice(b"ElfGone\0");
    let told = diagnose(two.as_slice()).unwrap();
    assert_eq!((told.lines, told.damaged), (10, 1));
    for end in (4096 + 600..4096 + 8000).step_by(509) {
        let told = diagnose(&log[..end]).unwrap();
        assert!(told.lines == 10 || told.damaged > 0, "{end}: {} events", told.lines);
    }
    let mut told_damage = 0;
    for at in (4096 + 512..4096 + 8192).step_by(7) {
        let mut damaged = log.clone();
        damaged[at] ^= 0x55;
        told_damage += usize::from(diagnose(damaged.as_slice()).unwrap().damaged > 0);
    }
    assert!(told_damage > 100, "{told_damage}");
}
