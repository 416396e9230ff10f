//! What a line of the journal can say.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use stubble_core::model::{FileTime, Place};
use stubble_core::plan::{Decided, StepKind};

/// One thing that happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "what")]
pub enum Entry {
    /// The case was opened.
    Opened {
        /// Who is looked for.
        subject: String,
        /// The machine's own name.
        computer: String,
    },
    /// A plan was written.
    Planned {
        /// Number of its steps.
        steps: usize,
        /// Digest of its text.
        digest: String,
    },
    /// A person decided about steps of the plan.
    Decided {
        /// What was decided, by place.
        decided: Vec<Decided>,
        /// Where: on the command line, or in the plan's file.
        by: String,
    },
    /// A step is about to be done; what it takes is recorded in the vault.
    Intent {
        /// Number of the deed; the vault's folder has the same.
        deed: u32,
        /// The step's name in the plan.
        step: String,
        /// What it does.
        kind: StepKind,
        /// What it changes.
        place: Place,
        /// What people call it.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        title: String,
        /// Digest of the record in the vault.
        #[serde(default)]
        record: String,
    },
    /// The step is done.
    Done {
        /// Number of the deed.
        deed: u32,
        /// Time stamps above its pieces, after it.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        after: Vec<FileTime>,
        /// Digest of the record of what an uninstaller did.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        effect: String,
        /// Digests of the listings of what was carried to another file system, by the numbers of the pieces.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        listings: BTreeMap<String, String>,
    },
    /// A file is in use: the machine is asked to move it to the vault at its next start.
    PutOff {
        /// Number of the deed.
        deed: u32,
        /// The file that is in use.
        file: String,
        /// Who holds it.
        by: String,
    },
    /// The machine was restarted.
    Restarted,
    /// The machine was asked for a restore point of its own.
    RestorePoint {
        /// Its number, where there is one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        number: Option<i64>,
        /// Why there is none.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        why: String,
    },
    /// The step was given up, and nothing of it is changed.
    GivenUp {
        /// Number of the deed.
        deed: u32,
        /// Why.
        why: String,
    },
    /// A step was not begun.
    Left {
        /// The step's name in the plan.
        step: String,
        /// Why.
        why: String,
    },
    /// A log told more of who is looked for.
    Learned {
        /// The log.
        from: String,
        /// Number of facts.
        facts: usize,
    },
    /// A program of the product was started to see whether it stays, and ended.
    Tried {
        /// The program.
        program: String,
        /// What was seen.
        seen: String,
    },
    /// An installer was chosen, and copied into the case.
    Chosen {
        /// Its path on the machine.
        payload: String,
        /// SHA-256 of its content.
        sha256: String,
        /// The copy, in the case folder.
        copy: String,
    },
    /// Something is about to be borrowed of the machine; what it was is recorded in the vault.
    Borrow {
        /// Number of the deed.
        deed: u32,
        /// The loan's name.
        loan: String,
        /// What is so as long as it lasts.
        title: String,
        /// Whether the guided work borrowed it, and gives it back at its end.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        for_mend: bool,
        /// Digest of the record in the vault.
        #[serde(default)]
        record: String,
    },
    /// A loan is given back.
    GivenBack {
        /// Number of the deed.
        deed: u32,
        /// What somebody else has changed meanwhile, and what stays so.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        left: Vec<String>,
    },
    /// What the vault held for a deed is deleted; it cannot be undone any more.
    Discarded {
        /// Number of the deed.
        deed: u32,
    },
    /// A deed is about to be undone.
    UndoIntent {
        /// Number of the deed.
        deed: u32,
    },
    /// The deed is undone.
    Undone {
        /// Number of the deed.
        deed: u32,
    },
    /// Several entries that became certain at the same moment: all of them or none.
    Together {
        /// They, in their order.
        entries: Vec<Entry>,
    },
    /// The plan was carried out to its end.
    Cleared {
        /// Steps done.
        done: usize,
        /// Steps left alone.
        left: usize,
    },
    /// Setup worked before the plan was at its end: these steps were not needed.
    Spared {
        /// Their names in the plan.
        steps: Vec<String>,
    },
    /// An installer ran.
    Installed {
        /// The payload.
        payload: String,
        /// Its copy in the case folder, where that was run.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        copy: Option<String>,
        /// Digest of the payload.
        digest: String,
        /// Its exit code.
        code: u32,
        /// Its log, in the case folder.
        log: String,
    },
    /// A receipt was written.
    Confirmed {
        /// Whether every answer was as it should be.
        good: bool,
        /// Its seal.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        seal: String,
    },
}
