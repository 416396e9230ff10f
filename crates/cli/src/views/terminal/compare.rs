//! `capture` and `compare` on a terminal.

use stubble_core::model::text::shown;
use stubble_core::survey::Gap;
use stubble_core::survey::compare::Difference;
use stubble_core::survey::groups::Group;

use super::style::{BAD, CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::{Captured, Compared};
use crate::views::words;

pub fn captured(captured: &Captured, width: Option<usize>) -> String {
    let title = format!("{} is captured in {}", shown(&captured.computer), shown(&captured.file));
    let mut out = styled(GOOD, hang("", &title, width).trim_end()) + "\n";
    let held = format!(
        "{}, {}, {}; {}",
        words::count(captured.files, "file and folder").replace("file and folders", "files and folders"),
        words::count(captured.keys, "key"),
        words::count(captured.values, "value"),
        words::size(captured.bytes),
    );
    out.push_str(&hang("  holds:  ", &held, width));
    out.push_str(&hang(
        "  use it: ",
        &format!("`--on capture:{}`, or `stubble compare`", shown(&captured.file)),
        width,
    ));
    out + &gaps(&captured.could_not_look, width)
}

pub fn machines_compared(compared: &Compared, all: bool, width: Option<usize>) -> String {
    let number = |how| compared.changes.iter().filter(|change| change.how == how).count();
    let (before, after) = (&compared.before, &compared.after);
    let title = format!(
        "{} against {}: {} vanished, {} appeared, {} changed",
        shown(&after.name),
        shown(&before.name),
        words::thousands(number(Difference::Vanished)),
        words::thousands(number(Difference::Appeared)),
        words::thousands(number(Difference::Changed)),
    );
    let mut out = styled(STRONG, hang("", &title, width).trim_end()) + "\n";
    if before.computer != after.computer {
        let text = format!("two machines: {} and {}", shown(&before.computer), shown(&after.computer));
        out.push_str(&hang("", &styled(CARE, &text), width));
    }
    for on_disk in [true, false] {
        let groups: Vec<&Group> = compared.groups.iter().filter(|one| one.place.kind.is_on_disk() == on_disk).collect();
        if groups.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", styled(STRONG, if on_disk { "Files" } else { "Registry" })));
        if all {
            let single = compared.changes.iter().filter(|change| change.place.kind.is_on_disk() == on_disk);
            for change in single.filter(|change| change.how != Difference::Touched) {
                out.push_str(&line(change.how, "", &words::place(&change.place), width));
            }
        } else {
            groups.into_iter().for_each(|group| out.push_str(&grouped(group, width)));
        }
    }
    if !compared.facts.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Facts")));
    }
    for fact in &compared.facts {
        let or_none = |text: &str| if text.is_empty() { "none".to_owned() } else { shown(text).into_owned() };
        let text = format!("{}: {}, was {}", shown(&fact.what), or_none(&fact.after), or_none(&fact.before));
        out.push_str(&hang("  ", &text, width));
    }
    out.push_str(&gaps(&before.could_not_look, width));
    out.push_str(&gaps(&after.could_not_look, width));
    let looked = format!(
        "{} looked at; in {} only the time differs. `--all` shows every difference.",
        words::count(after.places, "place"),
        words::thousands(number(Difference::Touched)),
    );
    out + "\n" + &styled(QUIET, hang("", &looked, width).trim_end()) + "\n"
}

fn grouped(group: &Group, width: Option<usize>) -> String {
    let counts = [(group.files, "file"), (group.folders, "folder"), (group.keys, "key"), (group.values, "value")];
    let mut parts: Vec<String> =
        counts.into_iter().filter(|(number, _)| *number > 0).map(|(number, noun)| words::count(number, noun)).collect();
    if group.bytes > 0 {
        parts.push(words::size(group.bytes));
    }
    let place = words::place(&group.place);
    let place = match (group.whole, group.count()) {
        (true, _) | (false, 1) => place,
        (false, _) => format!("in {place}"),
    };
    if group.count() == 1 {
        return line(group.how, "", &place, width);
    }
    line(group.how, &parts.join(", "), &place, width)
}

fn line(how: Difference, counts: &str, place: &str, width: Option<usize>) -> String {
    let (word, style) = match how {
        Difference::Appeared => ("appeared", GOOD),
        Difference::Vanished => ("vanished", BAD),
        Difference::Changed => ("changed", CARE),
        Difference::Touched => ("touched", QUIET),
    };
    let text = if counts.is_empty() { place.to_owned() } else { format!("{place} ({counts})") };
    row(&[(word, 8, style)], &text, width)
}

fn gaps(gaps: &[Gap], width: Option<usize>) -> String {
    let line = |gap: &Gap| {
        let text = format!("{}: {}", gap.what, gap.why);
        hang(&format!("{} ", styled(CARE, "could not look:")), &shown(&text), width)
    };
    gaps.iter().map(line).collect()
}
