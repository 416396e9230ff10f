//! What the demo tells between its commands.

use std::path::Path;

use super::style::{QUIET, STRONG, TYPED, hang, styled};

/// A sentence of the story.
pub fn story(text: &str, width: Option<usize>) -> String {
    let wrapped = hang("# ", text, width).replace("\n  ", "\n# ");
    format!("\n{}\n", styled(QUIET, wrapped.trim_end()))
}

/// A command as the technician types it.
pub fn typed(command: &str) -> String {
    format!("{}\n", styled(TYPED, &format!("$ stubble {command}")))
}

pub fn demo_beginning(folder: &Path) -> String {
    format!(
        "{}\n{}\n",
        styled(STRONG, "The weighing station of the cheese dairy Ambleforth Vale, PC WEIGH-03"),
        styled(QUIET, &format!("# A practice machine with real registry hives and packages, in {}", folder.display())),
    )
}

pub fn demo_end(case: &Path) -> String {
    let case = case.display();
    format!(
        "\n{}\n  stubble --case {case} trace --all\n  stubble --case {case} putback --list\n  stubble --case {case} why \"C:\\Program Files\\Fennelgate\\Label Bridge\"\n",
        styled(STRONG, "The machine and the case stay for you to try:"),
    )
}

pub fn demo_ready(on: &str, case: &Path) -> String {
    format!(
        "{}\n  stubble --case {} open \"scale desk\" --on {on}\n",
        styled(STRONG, "The broken machine is ready. Begin with:"),
        case.display(),
    )
}
