//! `open` on a terminal.

use stubble_core::model::text::shown;
use stubble_core::subject::AnchorKind;

use super::style::{CARE, QUIET, STRONG, hang, styled};
use crate::documents::Opened;

pub fn opened(opened: &Opened, width: Option<usize>) -> String {
    let subject = &opened.subject;
    let by = if subject.publisher.is_empty() { String::new() } else { format!(" by {}", shown(&subject.publisher)) };
    let mut out = format!("{}\n", styled(STRONG, &format!("{}{by}", shown(&subject.name))));
    if !opened.others.is_empty() {
        let text = format!("also meant, as all of the publisher's is: {}", shown(&opened.others.join(", ")));
        out.push_str(&styled(CARE, hang("  ", &text, width).trim_end()));
        out.push('\n');
    }
    let mut line = |label: &str, text: &str| out.push_str(&hang(&format!("  {label:<9}"), &shown(text), width));
    if let Some(how) = &opened.how {
        line("meant", how);
    }
    line("machine", &format!("{}, {}", opened.computer, opened.system));
    line("case", &opened.case);
    if let Some(vault) = &opened.vault {
        line("vault", vault);
    }
    line("payload", opened.payload.as_deref().unwrap_or("none found; name one with `stubble install PATH`"));
    let known = |kind| subject.anchors.iter().filter(move |anchor| anchor.kind == kind);
    for anchor in known(AnchorKind::EarlierName) {
        line("earlier", &format!("{}, from {}", anchor.value, anchor.from));
    }
    for anchor in known(AnchorKind::Detected) {
        line("asks for", &format!("{}, another whole product, from {}", anchor.value, anchor.from));
    }
    let codes = known(AnchorKind::ProductCode).count() + known(AnchorKind::UpgradeCode).count();
    let text = format!("Known by {codes} product and upgrade codes. Next: `stubble check`, `stubble trace`.");
    out + &styled(QUIET, hang("  ", &text, width).trim_end()) + "\n"
}
