//! Numbers and places in words, the same in every view.

use stubble_core::blockers::{Blocker, Severity};
use stubble_core::confirm::{Because, Installed, Receipt, Verdict};
use stubble_core::content::checked_list::CheckedList;
use stubble_core::model::FileTime;
use stubble_core::model::text::shown;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::survey::Device;
use stubble_core::trace::Remnant;

/// The day of a time, UTC.
pub fn date(time: FileTime) -> String {
    let (seconds, _) = time.to_unix();
    jiff::Timestamp::from_second(seconds).map(|time| time.strftime("%Y-%m-%d").to_string()).unwrap_or_default()
}

/// A size that a person can compare.
pub fn size(bytes: u64) -> String {
    let units = ["B", "KB", "MB", "GB", "TB"];
    let mut amount = bytes as f64;
    let mut unit = 0;
    while amount >= 1000.0 && unit + 1 < units.len() {
        amount /= 1024.0;
        unit += 1;
    }
    match unit {
        0 => format!("{bytes} B"),
        _ if amount < 10.0 => format!("{amount:.1} {}", units[unit]),
        _ => format!("{amount:.0} {}", units[unit]),
    }
}

/// How long something lasts.
pub fn lasting(seconds: u64) -> String {
    match seconds {
        ..120 => format!("{seconds} s"),
        _ => format!("{} min", seconds / 60),
    }
}

/// A number with its noun.
pub fn count(number: usize, noun: &str) -> String {
    let number_text = thousands(number);
    match noun {
        _ if number == 1 => format!("{number_text} {noun}"),
        _ if noun.ends_with('s') => format!("{number_text} {noun}es"),
        _ if noun.ends_with("ry") => format!("{number_text} {}ies", &noun[..noun.len() - 1]),
        _ => format!("{number_text} {noun}s"),
    }
}

/// A number with commas between its thousands.
pub fn thousands(number: usize) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A place as people read it, safe to show.
pub fn place(place: &Place) -> String {
    let text = match place.kind {
        PlaceKind::Process | PlaceKind::File | PlaceKind::Folder | PlaceKind::Key | PlaceKind::Shortcut => {
            place.to_string()
        }
        PlaceKind::Value => format!("{place} (value)"),
        PlaceKind::Startup | PlaceKind::FirewallRule => place.to_string(),
        PlaceKind::ListEntry => {
            format!("{} in {} : {}", place.entry.as_deref().unwrap_or_default(), place.path, place.value_name())
        }
        PlaceKind::NetworkLayer => format!("network layer {}", layer(place)),
        kind => format!("{} {place}", kind.word()),
    };
    shown(&text).into_owned()
}

/// A place with what people call it in front.
pub fn titled(place: &Place, title: &str) -> String {
    let plain = match place.kind {
        // What is said of a service or product names its kind already.
        PlaceKind::Service | PlaceKind::Product | PlaceKind::UpgradeCode => shown(&place.to_string()).into_owned(),
        _ => self::place(place),
    };
    with_title(&plain, title)
}

/// The same behind a verb that names the kind already.
pub fn object(place: &Place, title: &str) -> String {
    match place.kind {
        PlaceKind::Driver | PlaceKind::Task | PlaceKind::StorePackage | PlaceKind::SharedCount => {
            with_title(&shown(&place.to_string()), title)
        }
        PlaceKind::NetworkLayer => shown(&layer(place)).into_owned(),
        _ => titled(place, title),
    }
}

fn layer(place: &Place) -> String {
    format!("{} in {}", place.entry.as_deref().unwrap_or_default(), place.path)
}

fn with_title(plain: &str, title: &str) -> String {
    match (title, plain.starts_with('{')) {
        ("", _) => plain.to_owned(),
        (title, true) => format!("{} {plain}", shown(title)),
        (title, false) => format!("{} ({plain})", shown(title)),
    }
}

/// Places that a remnant consists of: one, or the parts of a registration.
pub fn parts(remnant: &Remnant) -> usize {
    remnant.parts.len().max(1)
}

/// How many files were compared, and how many of them by size alone.
fn files_of(installed: &Installed) -> String {
    match installed.by_size {
        0 => count(installed.files, "file"),
        some => format!("{}, {} of them by size alone", count(installed.files, "file"), thousands(some)),
    }
}

/// Numbers with their nouns: the first ones in any case, of the others those that are not zero.
pub fn counts(numbers: &[(usize, &str)], always: usize) -> String {
    let shown = numbers.iter().enumerate().filter(|(at, (number, _))| *at < always || *number > 0);
    shown.map(|(_, (number, noun))| count(*number, noun)).collect::<Vec<_>>().join(", ")
}

/// Everything that was compared of an install, with its numbers.
pub fn compared(installed: &Installed) -> String {
    let numbers = [
        (installed.values, "registry value"),
        (installed.shortcuts, "shortcut"),
        (installed.services, "service"),
        (installed.tasks, "task"),
        (installed.drivers, "driver package"),
    ];
    format!("{}, {}", files_of(installed), counts(&numbers, 3))
}

/// The first sentence of a check: the answer.
pub fn answer(blockers: &[Blocker]) -> String {
    let number = |severity| blockers.iter().filter(|blocker| blocker.severity == severity).count();
    let (will, may) = (number(Severity::WillFail), number(Severity::MayFail));
    match (will, may) {
        (0, 0) => "Nothing stands in the way.".to_owned(),
        (0, may) => format!("Setup may fail: {}.", count(may, "possible reason")),
        (will, 0) => format!("Setup will fail now: {}.", count(will, "reason")),
        (will, may) => format!("Setup will fail now: {}, and {} worth a look.", count(will, "reason"), may),
    }
}

/// What is still there and should not be, or is there for a reason that may end: a heading and its places each.
pub fn still_there(receipt: &Receipt) -> Vec<(&'static str, Vec<String>)> {
    let of = |because: Because| {
        let found = receipt.still_there.iter().filter(move |one| one.because == because);
        found.map(|one| format!("{} ({})", place(&one.place), one.reason)).collect::<Vec<String>>()
    };
    let left = receipt.left.iter().map(|finding| format!("{} ({})", place(&finding.place), finding.seen)).collect();
    let all = [
        ("Left of the old", left),
        ("Goes at the next start", of(Because::PutOff)),
        ("Not done", of(Because::Refused)),
        ("Not decided yet, and left as it is", of(Because::Undecided)),
    ];
    all.into_iter().filter(|(_, places)| !places.is_empty()).collect()
}

/// Why it is not known whether a machine is clean.
fn open_questions(receipt: &Receipt) -> String {
    let number = |because| receipt.still_there.iter().filter(|one| one.because == because).count();
    let open = [
        (number(Because::PutOff), "at the next start", "goes", "go"),
        (number(Because::Refused), "as long as the machine refuses", "stays", "stay"),
        (receipt.could_not_look.len(), "looked at", "could not be", "could not be"),
    ];
    let parts = open.iter().filter(|(number, ..)| *number > 0).map(|(number, rest, one, several)| {
        format!("{} {} {rest}", count(*number, "place"), if *number == 1 { one } else { several })
    });
    format!("Clean as far as could be seen; {}.", parts.collect::<Vec<_>>().join(", "))
}

/// The three questions of a receipt, with answer and figure.
pub fn answers(receipt: &Receipt) -> Vec<(Verdict, String)> {
    let clean = match receipt.clean {
        Verdict::No => format!("Not clean: {} of the old left.", count(receipt.left.len(), "place")),
        Verdict::Unknown => open_questions(receipt),
        Verdict::NotDone if receipt.install.as_ref().is_some_and(Installed::is_by_plan) => {
            "The plan put files right and took nothing, so nothing had to go.".to_owned()
        }
        Verdict::NotDone => "Nothing was taken before setup ran, so nothing had to go.".to_owned(),
        _ => "Clean: a new trace finds nothing of the old.".to_owned(),
    };
    let installed = match (&receipt.install, receipt.installed) {
        (Some(install), Verdict::Yes) if install.is_by_setup() => format!(
            "Installed: all that setup of {} brought is still there ({}). Nothing tells whether that is all it should.",
            install.product,
            compared(install)
        ),
        (Some(install), Verdict::Yes) if install.is_by_plan() => {
            format!("Put right: {} as the plan says.", files_of(install))
        }
        (Some(install), Verdict::Yes) => {
            format!("Installed right: {} as its {} says ({}).", install.product, install.teller(), compared(install))
        }
        (Some(install), _) => {
            format!(
                "Not installed right: {} {} from the {}.",
                count(install.findings.len(), "place"),
                if install.findings.len() == 1 { "differs" } else { "differ" },
                install.teller()
            )
        }
        (None, _) => "Not installed since: nothing to check.".to_owned(),
    };
    let bystanders = match &receipt.proof {
        Some(proof) => format!(
            "{} of {} other places changed while Stubble worked.",
            thousands(proof.changed.len()),
            thousands(proof.places)
        ),
        None => "Nothing was taken, so nothing else can have changed.".to_owned(),
    };
    let started = receipt.started.as_ref().map(|started| {
        let text = match started.stays {
            Verdict::Yes => format!("Starts and stays: {}.", started.seen),
            Verdict::No => format!("Does not start: {}.", started.seen),
            _ => format!("Whether it starts is not known: {}.", started.seen),
        };
        (started.stays, text)
    });
    [(receipt.clean, clean), (receipt.installed, installed)]
        .into_iter()
        .chain(started)
        .chain([(receipt.bystanders, bystanders)])
        .collect()
}

/// What is connected to a machine, in one sentence.
pub fn connected(devices: &[Device], network: Option<bool>) -> String {
    let network = match network {
        Some(true) => "Network connected.",
        Some(false) => "No network.",
        None => "Network not looked at.",
    };
    let driver = |device: &Device| match device.driver.as_str() {
        "" => "no driver".to_owned(),
        driver => format!("driver {driver}"),
    };
    let names: Vec<String> = devices.iter().map(|device| format!("{} ({})", device.name, driver(device))).collect();
    match names.is_empty() {
        true => network.to_owned(),
        false => format!("{network} Devices: {}.", names.join(", ")),
    }
}

/// A moment without its fractions of a second.
pub fn moment(at: &str) -> String {
    let text = at.split('.').next().unwrap_or(at);
    text.trim_end_matches('Z').replace('T', " ")
}

/// How many files of a list could not be compared with it.
pub fn not_compared(list: &CheckedList) -> String {
    format!("{} of {} files that {} names", list.not_compared, list.files, list.list)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_as_people_write_them() {
        assert_eq!(size(999), "999 B");
        assert_eq!(size(160_000), "156 KB");
        assert_eq!(size(5_200_000_000), "4.8 GB");
        assert_eq!(count(1, "place"), "1 place");
        assert_eq!(count(4812, "place"), "4,812 places");
        assert_eq!(count(2, "entry"), "2 entries");
        assert_eq!(moment("2026-03-02T06:40:00.123Z"), "2026-03-02 06:40:00");
    }
}
