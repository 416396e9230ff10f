//! How an installer is started: a package by the package installer, a setup program with the switches of its kind.

use std::sync::LazyLock;

use memchr::memmem;
use serde::Deserialize;

/// How an installer is started.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Launch {
    /// By the package installer, without questions.
    Package,
    /// A program of a kind that is known: without questions.
    Quiet {
        /// Its kind, in words.
        kind: String,
        /// Its arguments; `{log}` stands for the file of its log.
        arguments: Vec<String>,
    },
    /// A program of no known kind: it asks in its own windows.
    Asks,
}

/// What stands for the path of a log among arguments.
pub const LOG: &str = "{log}";

static KINDS: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/setup_programs.toml")).expect("the table is tested"));

#[derive(Deserialize)]
struct Table {
    kind: Vec<Kind>,
}

#[derive(Deserialize)]
struct Kind {
    name: String,
    mark: String,
    quiet: Vec<String>,
}

impl Kind {
    /// The bytes of its mark.
    fn mark(&self) -> Option<Vec<u8>> {
        let pair = |at: usize| u8::from_str_radix(self.mark.get(at..at + 2)?, 16).ok();
        (0..self.mark.len()).step_by(2).map(pair).collect()
    }
}

impl Launch {
    /// How a file is started, by its content.
    pub fn of(content: &[u8]) -> Self {
        if !content.starts_with(b"MZ") {
            return Self::Package;
        }
        let has = |kind: &&Kind| kind.mark().is_some_and(|mark| memmem::find(content, &mark).is_some());
        match KINDS.kind.iter().find(has) {
            Some(kind) => Self::Quiet { kind: kind.name.clone(), arguments: kind.quiet.clone() },
            None => Self::Asks,
        }
    }

    /// How a program of that name is run, in words; nothing where the package installer does that.
    pub fn told(&self, name: &str) -> Option<String> {
        match self {
            Self::Package => None,
            Self::Quiet { kind, .. } => {
                let switches = self.arguments("FILE").join(" ");
                Some(format!("{name} is {kind}, and runs without questions by {switches}"))
            }
            Self::Asks => Some(format!("{name} is a program of no known kind, and asks in its own windows")),
        }
    }

    /// The arguments of a program, with its log in that file.
    pub fn arguments(&self, log: &str) -> Vec<String> {
        match self {
            Self::Quiet { arguments, .. } => arguments.iter().map(|one| one.replace(LOG, log)).collect(),
            Self::Package | Self::Asks => Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_a_mark_and_switches() {
        for kind in &KINDS.kind {
            let mark = kind.mark().expect("digits");
            assert!(mark.len() >= 7, "{}: too short a mark proves nothing", kind.name);
            let mut program = b"MZ and more ".to_vec();
            program.extend(&mark);
            let launch = Launch::of(&program);
            assert!(matches!(&launch, Launch::Quiet { kind: name, .. } if *name == kind.name), "{launch:?}");
            let arguments = launch.arguments("C:\\a log.txt");
            assert!(!arguments.is_empty() && arguments.iter().all(|one| !one.contains('{')), "{arguments:?}");
        }
    }

    #[test]
    fn a_mark_counts_in_a_program_only() {
        assert_eq!(Launch::of(b"MZ this one tells nothing"), Launch::Asks);
        let mark = KINDS.kind[0].mark().expect("digits");
        assert_eq!(Launch::of(&mark), Launch::Package);
    }
}
