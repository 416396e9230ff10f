//! `payload` on a terminal.

use stubble_core::model::text::shown;
use stubble_core::payloads::Candidate;

use super::style::{CARE, GOOD, QUIET, STRONG, hang, styled};
use crate::documents::{PayloadChosen, PayloadsFound};
use crate::views::words;

pub fn payloads_found(found: &PayloadsFound, width: Option<usize>) -> String {
    let usable = found.candidates.iter().filter(|one| one.usable).count();
    let title = match (usable, found.candidates.len()) {
        (0, 0) => format!("No installer for {} lies on {}.", found.subject, found.computer),
        (0, all) => format!(
            "{} for {} on {}, none of which can be used as it is.",
            words::count(all, "installer"),
            found.subject,
            found.computer
        ),
        (usable, _) => {
            format!("{} for {} on {} can be used.", words::count(usable, "installer"), found.subject, found.computer)
        }
    };
    let style = if usable > 0 { GOOD } else { CARE };
    let mut out = styled(style, hang("", &shown(&title), width).trim_end()) + "\n";
    for (number, one) in found.candidates.iter().enumerate() {
        out.push('\n');
        out.push_str(&hang(&format!("{:>2}. ", number + 1), &styled(STRONG, &shown(&one.path)), width));
        out.push_str(&hang("      ", &shown(&what(one)), width));
        for text in &one.favours {
            out.push_str(&hang("      for:      ", &shown(text), width));
        }
        for text in &one.against {
            out.push_str(&hang("      against:  ", &shown(text), width));
        }
        out.push_str(&hang("      SHA-256:  ", &one.sha256, width));
        if found.chosen.as_deref() == Some(one.path.as_str()) {
            out.push_str(&styled(GOOD, "      the case's installer"));
            out.push('\n');
        }
    }
    if !found.first.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Install first")));
    }
    for one in &found.first {
        out.push_str(&hang("  - ", &shown(&format!("{}: {}", one.what, one.why)), width));
        match one.brought_by.as_slice() {
            [] => out.push_str(&hang("    ", "nothing that was looked into brings it: fetch it", width)),
            all => all.iter().for_each(|(path, product)| {
                out.push_str(&hang("    run:  ", &shown(&format!("{path} ({product})")), width));
            }),
        }
    }
    if found.not_looked_into > 0 {
        let text = format!("{} could not be looked into", words::count(found.not_looked_into, "file"));
        out.push_str(&hang(&format!("{} ", styled(CARE, "could not look:")), &text, width));
    }
    for gap in &found.could_not_look {
        let head = format!("{} ", styled(CARE, "could not look:"));
        out.push_str(&hang(&head, &shown(&format!("{}: {}", gap.what, gap.why)), width));
    }
    let next = match usable {
        0 => {
            "Fetch the full installer; `stubble payload --among DIR` looks in one more folder, a stick or a share too."
        }
        _ => "`stubble payload --choose FILE` makes one the case's and copies it into the case.",
    };
    out + "\n" + &styled(QUIET, hang("", next, width).trim_end()) + "\n"
}

fn what(one: &Candidate) -> String {
    let product = match (one.product.as_str(), one.version.as_str()) {
        ("", _) => "product not told".to_owned(),
        (name, "") => name.to_owned(),
        (name, version) => format!("{name} {version}"),
    };
    let mut parts = vec![product, words::size(one.size), format!("in {}", one.found_in.words())];
    if !one.architecture.is_empty() {
        parts.insert(1, one.architecture.clone());
    }
    parts.join(", ")
}

pub fn payload_chosen(done: &PayloadChosen, width: Option<usize>) -> String {
    let title = format!("{} is the case's installer now.", shown(&done.payload));
    let mut out = styled(GOOD, hang("", &title, width).trim_end()) + "\n";
    for (head, text) in [("installs", &done.product), ("SHA-256", &done.sha256), ("copy", &done.copy)] {
        out.push_str(&hang(&format!("  {head:<10}"), &shown(text), width));
    }
    out + &hang("  next      ", "`stubble check`, `stubble install`", width)
}
