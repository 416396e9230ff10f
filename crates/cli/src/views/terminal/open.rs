//! `open` on a terminal.

use stubble_core::model::text::shown;
use stubble_core::subject::AnchorKind;

use super::style::{QUIET, STRONG, hang, styled};
use crate::documents::Opened;

pub fn opened(opened: &Opened, width: Option<usize>) -> String {
    let subject = &opened.subject;
    let mut out =
        format!("{}\n", styled(STRONG, &format!("{} by {}", shown(&subject.name), shown(&subject.publisher))));
    let mut line = |label: &str, text: &str| out.push_str(&hang(&format!("  {label:<9}"), &shown(text), width));
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
    let codes = known(AnchorKind::ProductCode).count() + known(AnchorKind::UpgradeCode).count();
    let text = format!("Known by {codes} product and upgrade codes. Next: `stubble check`, `stubble trace`.");
    out + &styled(QUIET, hang("  ", &text, width).trim_end()) + "\n"
}
