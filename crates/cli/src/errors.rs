//! From an error to what a person reads: what is, why, what to do, and the exit code.

use std::error::Error as _;
use std::io;
use std::path::PathBuf;

use stubble_core::footprint::{FootprintError, MergeError};
use stubble_core::logs::LogError;
use stubble_core::packages::PackageError;
use stubble_core::plan::PlanError;
use stubble_core::subject::Candidate;
use stubble_ledger::LedgerError;
use stubble_machine::bench::world::WorldError;
use stubble_machine::{MachineError, NoWrite};
use thiserror::Error;

use crate::Exit;

/// Everything that can end a command before its end.
#[derive(Debug, Error)]
pub enum CliError {
    /// `--on` is not understood.
    #[error("`--on {on}` names no machine")]
    WrongMachine {
        /// What was given.
        on: String,
    },
    /// The running Windows was named, and this is none.
    #[error("`here` is the Windows that Stubble runs on, and this computer runs another system")]
    NotWindows,
    /// The machine is a capture.
    #[error("this machine is a capture: a picture, which cannot be changed")]
    OnlyAPicture,
    /// `compare` has nothing to compare with.
    #[error("`{0}` is no capture, no machine and no moment of this case")]
    NothingToCompare(String),
    /// The case has no survey of that moment.
    #[error("this case has no survey from {0}")]
    NotThatMoment(String),
    /// A file would be overwritten.
    #[error("{} is there already", .0.display())]
    Exists(PathBuf),
    /// Neither a name, nor a payload or a log that tells one.
    #[error("{} names no product", if .0.is_empty() { "what was given" } else { .0 })]
    NoName(String),
    /// Nobody of that name.
    #[error("nothing on this machine is called {name}")]
    NoProduct {
        /// What was given.
        name: String,
        /// Names that the machine knows.
        known: Vec<String>,
    },
    /// Several of that name.
    #[error("{name} can mean {}", crate::views::words::count(.candidates.len(), "product"))]
    Several {
        /// What was given.
        name: String,
        /// Who could be meant.
        candidates: Vec<Candidate>,
    },
    /// It is a publisher's name, and none of a product.
    #[error("{name} is a publisher here, not a product")]
    APublisher {
        /// What was given.
        name: String,
        /// The publisher's products.
        products: Vec<Candidate>,
    },
    /// What is to be put right is not installed.
    #[error("{0} is not installed here, so that there is nothing to put right")]
    NotInstalled(String),
    /// The payload is no package.
    #[error("{path} cannot be used as a payload: {source}")]
    Payload {
        /// The file.
        path: String,
        /// What is wrong.
        source: PackageError,
    },
    /// A setup program in which there is no package to read.
    #[error("{0} is a setup program, and no installer package lies in it")]
    Program(String),
    /// A log cannot be read.
    #[error("{}: {source}", .path.display())]
    Log {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        source: LogError,
    },
    /// A file is no footprint.
    #[error("{} is no footprint: {source}", .path.display())]
    Footprint {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        source: FootprintError,
    },
    /// Footprints cannot be merged.
    #[error(transparent)]
    Merge(#[from] MergeError),
    /// Nothing came between two moments.
    #[error("between the two nothing was installed{}", .0.as_ref().map(|name| format!(" that is called {name}")).unwrap_or_default())]
    NothingCame(Option<String>),
    /// There is no log to read.
    #[error("no log is named, and no setup has run in this case")]
    NoLog,
    /// A payload is not the one that was meant.
    #[error("{path} has SHA-256 {found}, not {wanted}")]
    OtherContent {
        /// The file.
        path: String,
        /// What was asked for.
        wanted: String,
        /// What it has.
        found: String,
        /// The copy in the case folder that was made when it was chosen, where that is what was meant.
        copy: Option<String>,
    },
    /// Nothing tells which program people start.
    #[error("nothing tells which program of the product people start")]
    NoProgram,
    /// No payload is known.
    #[error("no installer for {0} is known")]
    NoPayload(String),
    /// A store package is to be repaired.
    #[error("{0} is a store package, which Windows itself repairs")]
    RepairedByWindows(String),
    /// A store package is to be reset that keeps nothing.
    #[error("no store package of {0} keeps anything for a user")]
    NoStoreData(String),
    /// The plan is refused.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// A step is half done, and the machine shows a part of it only.
    #[error("a step was interrupted, and the machine shows a part of it only")]
    HalfDone,
    /// A person ended guided work at a question.
    #[error("ended here; the case and what was decided are kept")]
    Ended,
    /// A whole product would go, and could not come again.
    #[error("{0} is whole, and no installer for it is known")]
    NoSuccessor(String),
    /// A place that a step removes together with the folder or key around it.
    #[error("{step} takes {place} with {takes}, and cannot leave it")]
    InsideStep {
        /// What was named.
        place: String,
        /// The step that takes it.
        step: String,
        /// What that step takes.
        takes: String,
    },
    /// No loan of that name.
    #[error("nothing called {name} can be borrowed")]
    NoLoan {
        /// What was given.
        name: String,
        /// What can be.
        offered: Vec<String>,
    },
    /// It is not borrowed.
    #[error("{0} is not borrowed")]
    NotBorrowed(String),
    /// A word that is none of those that are known.
    #[error("{name} is not known here")]
    NotAmong {
        /// What was given.
        name: String,
        /// What is known.
        known: Vec<String>,
    },
    /// No step of that name.
    #[error("the plan has no step {0}")]
    NoStep(String),
    /// Something was installed after the places were taken.
    #[error("{payload} was installed since, and stands where the old places were")]
    InstalledSince {
        /// The installer that ran.
        payload: String,
    },
    /// A change needs a yes, and nobody can be asked.
    #[error("this changes the machine, and there is no terminal to ask you at")]
    CannotAsk,
    /// The person said no.
    #[error("you said no; nothing was changed")]
    Declined,
    /// The case cannot be used.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The machine cannot be used.
    #[error(transparent)]
    Machine(#[from] MachineError),
    /// A practice machine cannot be built.
    #[error(transparent)]
    World(#[from] WorldError),
    /// A file cannot be read or written.
    #[error("{}: {source}", .path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system says.
        source: io::Error,
    },
}

/// What a person reads.
#[derive(Debug)]
pub struct Explained {
    /// What is.
    pub message: String,
    /// More of it, a line each.
    pub details: Vec<String>,
    /// What to do.
    pub advice: String,
    /// The exit code.
    pub exit: Exit,
}

/// The words for an error. Every variant has advice, by an exhaustive match.
pub fn explain(error: &CliError) -> Explained {
    with_lines_of_its_file(error, in_words(error))
}

/// Where a file in TOML is wrong, the parser shows the lines that it means. They become details, each for itself: a
/// message is one line, so that a name in it cannot make a second one.
fn with_lines_of_its_file(error: &CliError, explained: Explained) -> Explained {
    let mut source = error.source();
    let whole = loop {
        let Some(error) = source else { return explained };
        let boxed = error.downcast_ref::<Box<toml::de::Error>>().map(AsRef::as_ref);
        if let Some(parsed) = boxed.or_else(|| error.downcast_ref::<toml::de::Error>()) {
            break parsed.to_string();
        }
        source = error.source();
    };
    let mut lines = whole.trim_end().lines();
    let first = lines.next().unwrap_or_default();
    let details = lines.map(str::to_owned).chain(explained.details).collect();
    Explained { message: explained.message.replace(&whole, first), details, ..explained }
}

fn in_words(error: &CliError) -> Explained {
    let advised = |advice: &str, exit| Explained {
        message: error.to_string(),
        details: Vec::new(),
        advice: advice.to_owned(),
        exit,
    };
    match error {
        CliError::WrongMachine { .. } => advised(
            "Name it as here (this Windows), disk:DIR (a mounted Windows disk; its other drives behind it: disk:DIR,D=DIR), capture:FILE, or bench:DIR (a practice machine).",
            Exit::Usage,
        ),
        CliError::NotWindows => {
            advised("Run it on that PC, or name its disk: disk:DIR, where it is mounted.", Exit::Usage)
        }
        CliError::OnlyAPicture => {
            advised("Write the plan with `stubble plan`, and carry it out on the machine itself.", Exit::Usage)
        }
        CliError::NothingToCompare(_) => advised(
            "Name a capture file, a machine such as disk:DIR, or one of: now, before-clear, before-install, after-install.",
            Exit::Usage,
        ),
        CliError::NotThatMoment(_) => {
            advised("`clear` keeps one before it begins, and `install` one before and one after.", Exit::Usage)
        }
        CliError::Exists(_) => advised("Name another file.", Exit::Usage),
        CliError::NoProduct { known, .. } => Explained {
            details: known.iter().map(|name| format!("known: {name}")).collect(),
            ..advised("Check the spelling, or name the installer with `--payload`.", Exit::Usage)
        },
        CliError::Several { candidates, .. } => Explained {
            details: candidates.iter().map(candidate).collect(),
            ..advised("Say which one you mean; nothing was guessed and nothing was opened.", Exit::Usage)
        },
        CliError::APublisher { products, .. } => Explained {
            details: products.iter().map(candidate).collect(),
            ..advised(
                "Name one of its products; `--scope publisher` beside that name means all of them. Nothing was opened.",
                Exit::Usage,
            )
        },
        CliError::Program(_) => advised(
            "Name an installer package (.msi) here. `stubble install` runs setup programs as they are.",
            Exit::Usage,
        ),
        CliError::Payload { .. } => {
            advised("Fetch the full installer package again, and name it with `--payload`.", Exit::Usage)
        }
        CliError::Log { source: LogError::Io(_), .. } => advised("Check that the file is there.", Exit::Unreadable),
        CliError::Log { source: LogError::NotALog(_), .. } => advised(
            "Name a text log; run setup once more with its log switched on (msiexec /i PACKAGE /l*v FILE) if there is none.",
            Exit::Usage,
        ),
        CliError::Footprint { .. } => advised(
            "Mend the entry that is named; docs/format-footprint.md explains it. Nothing was done.",
            Exit::Usage,
        ),
        CliError::Merge(_) => advised("Merge footprints of one product in one version.", Exit::Usage),
        CliError::NothingCame(_) => advised(
            "Take a capture before the install and one after it, and name the product with `--name`.",
            Exit::Usage,
        ),
        CliError::OtherContent { copy: Some(copy), .. } => advised(
            &format!(
                "It was changed since it was chosen, and nothing was run. `stubble install {copy}` runs the copy that was made then."
            ),
            Exit::No,
        ),
        CliError::OtherContent { .. } => advised(
            "It was changed, is damaged, or is another version. `stubble payload` shows what lies on the machine; nothing was run.",
            Exit::No,
        ),
        CliError::NoLog => advised("Name it: `stubble diagnose LOG`.", Exit::Usage),
        CliError::NotInstalled(_) => advised("`stubble install` installs it.", Exit::Usage),
        CliError::NoName(_) => advised("Give the product's name as well: `stubble open NAME …`.", Exit::Usage),
        CliError::NoProgram => advised("Name it: `stubble confirm --start PROGRAM`.", Exit::Usage),
        CliError::RepairedByWindows(_) => advised(
            "Choose Repair in Windows' settings, under its advanced options: what it keeps for its users stays. \
             `stubble plan --reset` takes that, and `stubble plan` takes the package. Nothing was changed.",
            Exit::No,
        ),
        CliError::NoStoreData(_) => {
            advised("`stubble plan` makes the plan that takes the product itself. Nothing was changed.", Exit::No)
        }
        CliError::NoPayload(_) => advised("Name it: `stubble install PATH`.", Exit::Usage),
        CliError::Plan(plan) => plan_explained(plan, &advised),
        CliError::HalfDone => advised("`stubble resume` finishes it. Nothing was changed.", Exit::Stopped),
        CliError::Ended => advised("The same `stubble mend` goes on; `stubble status` says where it is.", Exit::No),
        CliError::NoSuccessor(_) => advised(
            "Name its installer with `stubble payload --choose FILE`, or add `--without-installer`. Nothing was changed.",
            Exit::Usage,
        ),
        CliError::InsideStep { .. } => {
            advised("Decide about that step, or copy the place elsewhere first. Nothing was decided.", Exit::Usage)
        }
        CliError::NoLoan { offered, .. } => {
            Explained { details: offered.clone(), ..advised("Name one of these: `stubble borrow LOAN`.", Exit::Usage) }
        }
        CliError::NotBorrowed(_) => advised("`stubble loans` shows what is.", Exit::Usage),
        CliError::NotAmong { known, .. } => Explained {
            details: known.iter().map(|name| format!("known: {name}")).collect(),
            ..advised("Name one of these.", Exit::Usage)
        },
        CliError::NoStep(_) => advised("`stubble plan` shows the steps by name.", Exit::Usage),
        CliError::InstalledSince { .. } => {
            advised("Uninstall it first, or name the steps that you want back: `stubble putback --list`.", Exit::No)
        }
        CliError::CannotAsk => advised("Run it in a terminal, or add `--yes` in a script.", Exit::Usage),
        CliError::Declined => advised("Run it again when you are ready.", Exit::No),
        CliError::Ledger(ledger) => ledger_explained(ledger, &advised),
        CliError::Machine(machine) => machine_explained(machine, &advised),
        CliError::World(world) => match world {
            WorldError::NotEmpty(_) => advised("Name another folder, or remove this one first.", Exit::Usage),
            WorldError::Machine(machine) => machine_explained(machine, &advised),
            WorldError::Description { .. } | WorldError::UnknownPackage(_) | WorldError::Setup { .. } => {
                advised("Mend the description; docs/format-world.md explains it.", Exit::Usage)
            }
            WorldError::Io { .. } => {
                advised("Check that the folder can be written and the disk has room.", Exit::Unreadable)
            }
        },
        CliError::Io { .. } => advised("Check that the file is there and can be written.", Exit::Unreadable),
    }
}

fn plan_explained(error: &PlanError, advised: &dyn Fn(&str, Exit) -> Explained) -> Explained {
    let advice = match error {
        PlanError::Unreadable(_) => "Mend the line that is named, or make a new plan with `stubble plan --anew`.",
        PlanError::Format { .. } => "Make a new plan with `stubble plan --anew`.",
        PlanError::OtherMachine { .. } => "Make a plan on this machine with `stubble plan --anew`.",
        PlanError::Duplicate(_) | PlanError::Order { .. } => {
            "Undo the edit, or make a new plan with `stubble plan --anew`."
        }
        PlanError::Path { .. } | PlanError::Kind { .. } => {
            "Write the place as `stubble trace` shows it, or delete the step."
        }
        PlanError::Protected { .. } | PlanError::ForeignPart { .. } => {
            "Delete the step from the plan. Nothing was changed."
        }
        PlanError::Overlap { .. } => "Keep one of the two steps.",
    };
    advised(advice, Exit::Usage)
}

fn ledger_explained(error: &LedgerError, advised: &dyn Fn(&str, Exit) -> Explained) -> Explained {
    match error {
        LedgerError::NoCase(_) => {
            advised("Start one with `stubble open NAME --on MACHINE`, or name it with `--case DIR`.", Exit::Usage)
        }
        LedgerError::Exists { .. } => advised("Go on with it, or name another folder with `--case DIR`.", Exit::Usage),
        LedgerError::Locked(_) => advised("Wait until that program has ended, or end it.", Exit::Unreadable),
        LedgerError::OtherMachine { .. } => advised(
            "Nothing was changed. Mount that machine's own disk at the folder, or open a new case for this one: `stubble open NAME --on MACHINE --case DIR`.",
            Exit::Unreadable,
        ),
        LedgerError::OlderState { .. } => advised(
            "Nothing was changed: what the vault holds belongs to the copy on which `stubble clear` ran. Name that one, or open a new case for this one.",
            Exit::Unreadable,
        ),
        LedgerError::Damaged { .. } => {
            advised("Nothing was changed. Restore the file from a copy of the case.", Exit::Unreadable)
        }
        LedgerError::NoPlan(_) => advised("Make one with `stubble plan`.", Exit::Usage),
        LedgerError::NoDeed(_) => advised("`stubble putback --list` shows what is held.", Exit::Usage),
        LedgerError::NoSpace { .. } => advised(
            "Nothing was changed. Make room there, or open the case with a vault on another disk: `--vault DIR`.",
            Exit::Unreadable,
        ),
        LedgerError::Machine(machine) => machine_explained(machine, advised),
        LedgerError::Io { .. } => {
            advised("Check that the case folder can be written and the disk has room.", Exit::Unreadable)
        }
    }
}

fn machine_explained(error: &MachineError, advised: &dyn Fn(&str, Exit) -> Explained) -> Explained {
    if let MachineError::SeveralInstallations { found, .. } = error {
        return Explained {
            details: found.iter().map(|folder| format!("found: {}", folder.display())).collect(),
            ..advised("Name the Windows folder that you mean: `--on disk:DIR`.", Exit::Usage)
        };
    }
    let advice = match error {
        MachineError::SeveralInstallations { .. } => "Name the Windows folder that you mean: `--on disk:DIR`.",
        MachineError::NotWritable { why, .. } => match why {
            NoWrite::Hibernated => {
                "Start that Windows and shut it down with `shutdown /s /t 0`, then try again. Nothing was changed."
            }
            NoWrite::ReadOnly => "Mount it for writing, and try again. Nothing was changed.",
            NoWrite::Stale { .. } => {
                "Start that Windows once and shut it down, so that it repairs its registry. Nothing was changed."
            }
            NoWrite::NotElevated => {
                "Open a terminal with \"Run as administrator\", and try again there. Nothing was changed."
            }
            NoWrite::Running => "Attach the disk to another computer. Nothing was changed.",
        },
        MachineError::Busy { .. } => "Wait until it has ended, or end it. Nothing was changed.",
        MachineError::NotAMachine { .. } => "Check the folder; `stubble demo --broken-only` makes a practice machine.",
        MachineError::Hive { .. } => "Nothing was changed. Restore the hive from a backup before you go on.",
        MachineError::Description { .. } => "Mend the line that is named.",
        MachineError::Package { .. } => "Put the original package back in its place.",
        MachineError::Capture { .. } => "Take the capture again.",
        MachineError::Absent(_) => "Check the path.",
        MachineError::NotInCapture(_) => "Copy the installer to this computer, and name it by its path here.",
        MachineError::DriveNotHere(_) => {
            "Connect that drive, or name it with the disk (`disk:DIR,D=DIR`). What it holds was not touched."
        }
        MachineError::Occupied(_) => "Move what is there away first.",
        MachineError::InUse { .. } => "Close the program that holds it.",
        MachineError::Denied(_) => "Run it with the rights to read and change that place.",
        MachineError::Unsupported(_) => "Do this step by hand, and note it in the ticket.",
        MachineError::Refused { .. } => "Look at what the path leads to. Nothing was changed.",
        MachineError::OtherFileSystem(_) => "Put the case on the machine's own disk with `--case DIR`.",
        MachineError::Io { .. } => "Check the disk.",
    };
    let exit = match error {
        MachineError::Absent(_) | MachineError::NotInCapture(_) | MachineError::Refused { .. } => Exit::Usage,
        _ => Exit::Unreadable,
    };
    advised(advice, exit)
}

/// A product with its publisher or, where that is not known, with where it was met.
fn candidate(one: &Candidate) -> String {
    let from = if one.publisher.is_empty() { one.from.first() } else { Some(&one.publisher) };
    from.map_or_else(|| one.name.clone(), |from| format!("{} ({from})", one.name))
}
