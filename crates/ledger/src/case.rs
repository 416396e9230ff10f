//! The case folder.

use std::cell::{OnceCell, RefCell};
use std::collections::BTreeMap;
use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use stubble_core::confirm::seal::sha256;
use stubble_core::model::Place;
use stubble_core::subject::{Anchor, AnchorKind, Subject};
use stubble_core::survey::{Facts, Identity, Survey};
use stubble_machine::{Alter, MachineError, capture, durable};

use crate::LedgerError;
use crate::journal::{Borrowed, Deed, DeedState, Entry, Journal};
use crate::steps::{Piece, uninstaller};

const ABOUT: &str = "case.json";
const JOURNAL: &str = "journal.jsonl";
const FORMAT: &str = "stubble.case/1";
/// Where the registry is kept as it was before the case.
pub(crate) const REGISTRY: &str = "registry";

/// What a case is about.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct About {
    /// Name and version of the format.
    pub schema: String,
    /// The machine, as it was named on the command line, with a full path.
    pub on: String,
    /// The machine's own name.
    pub computer: String,
    /// Identity of the machine.
    #[serde(default)]
    pub machine: Identity,
    /// Who is looked for.
    pub subject: Subject,
    /// The installer that is to be run, by its path on the machine.
    pub payload: Option<String>,
    /// The folder in which what is taken is to be held, where one was chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vault: Option<PathBuf>,
    /// When the case was opened, UTC.
    pub opened: String,
}

impl About {
    /// A new case.
    pub fn new(on: String, computer: String, subject: Subject, payload: Option<String>) -> Self {
        let opened = stubble_machine::now().to_string();
        let machine = Identity::default();
        Self { schema: FORMAT.to_owned(), on, computer, machine, subject, payload, vault: None, opened }
    }
}

/// A moment at which a survey is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moment {
    /// Before the plan was carried out.
    BeforeClear,
    /// Before an installer ran.
    BeforeInstall,
    /// After it.
    AfterInstall,
}

impl Moment {
    fn file(self) -> &'static str {
        match self {
            Self::BeforeClear => "before-clear.capture",
            Self::BeforeInstall => "before-install.capture",
            Self::AfterInstall => "after-install.capture",
        }
    }
}

/// An open case. As long as it lives, no other process can open it.
#[derive(Debug)]
pub struct Case {
    folder: PathBuf,
    /// What it is about.
    pub about: About,
    /// What was done.
    pub journal: Journal,
    /// The file of records that was read last, with its lines: deeds that were done together are asked for together.
    pub(crate) last_records: RefCell<(PathBuf, Vec<Vec<u8>>)>,
    /// What the machine says of itself, once it is held for changing: records are asked against it.
    pub(crate) facts: OnceCell<Facts>,
    _lock: File,
}

impl Case {
    /// Starts a case in a folder that has none.
    pub fn create(folder: &Path, about: About) -> Result<Self, LedgerError> {
        if folder.join(ABOUT).exists() {
            let old: About = read_json(&folder.join(ABOUT))?;
            return Err(LedgerError::Exists { folder: folder.to_owned(), subject: old.subject.name });
        }
        for part in ["vault", "surveys", "logs"] {
            let path = folder.join(part);
            durable::make_folders(&path).map_err(LedgerError::io(&path))?;
        }
        durable::make_private(folder).map_err(LedgerError::io(folder))?;
        let lock = lock(folder)?;
        write_json(&folder.join(ABOUT), &about)?;
        let mut journal = Journal::open(&folder.join(JOURNAL))?;
        journal.append(Entry::Opened { subject: about.subject.name.clone(), computer: about.computer.clone() })?;
        Ok(Self::of(folder, about, journal, lock))
    }

    fn of(folder: &Path, about: About, journal: Journal, lock: File) -> Self {
        let (last_records, facts) = (RefCell::default(), OnceCell::new());
        Self { folder: folder.to_owned(), about, journal, last_records, facts, _lock: lock }
    }

    /// Opens the case in a folder.
    pub fn open(folder: &Path) -> Result<Self, LedgerError> {
        if !folder.join(ABOUT).is_file() {
            return Err(LedgerError::NoCase(folder.to_owned()));
        }
        let lock = lock(folder)?;
        let about: About = read_json(&folder.join(ABOUT))?;
        if about.schema != FORMAT {
            let why = format!("it has format {}, this program reads {FORMAT}", about.schema);
            return Err(LedgerError::Damaged { path: folder.join(ABOUT), why });
        }
        let journal = Journal::open(&folder.join(JOURNAL))?;
        let case = Self::of(folder, about, journal, lock);
        case.reconcile()?;
        Ok(case)
    }

    /// Fails if the vault holds more than the journal speaks of: it was cut or deleted, and what is held would pass
    /// for nothing.
    fn reconcile(&self) -> Result<(), LedgerError> {
        let path = self.folder.join(JOURNAL);
        if self.journal.lines().is_empty() {
            let why = "it is empty or gone; the vault and the registry texts in it are all that is left".to_owned();
            return Err(LedgerError::Damaged { path, why });
        }
        // A record is written before its first line, so one deed may be without lines; it has taken nothing then.
        let next = self.journal.next_deed();
        let deeds = fs::read_dir(self.folder.join("vault")).into_iter().flatten().flatten();
        let numbers = deeds.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
        let holds = |number: u32| {
            // What is copied for an uninstaller is copied before its first line.
            let record = fs::read(self.vault(number).join("record.json")).unwrap_or_default();
            let pieces: Vec<Piece> = serde_json::from_slice(&record).unwrap_or_default();
            let is_held = |piece: usize| {
                let held = fs::read_dir(self.vault(number).join(piece.to_string()));
                held.is_ok_and(|mut held| held.next().is_some())
            };
            pieces.iter().enumerate().any(|(at, piece)| matches!(piece, Piece::Entry { .. }) && is_held(at))
        };
        // Records of several deeds get their name when the lines are certain.
        let is_unknown =
            |number: u32| number > next || number == next && holds(next) || number + self.records_in(number) > next;
        let unknown = numbers.filter(|number| is_unknown(*number)).min();
        match unknown {
            None => Ok(()),
            Some(number) => {
                let why = format!("its last lines are gone: the vault has step {number}, which it does not speak of");
                Err(LedgerError::Damaged { path, why })
            }
        }
    }

    /// What is borrowed in the case of a folder, for a note: read without holding the case.
    pub fn loans_out(folder: &Path) -> Vec<Borrowed> {
        if folder.join(ABOUT).is_file() { Journal::loans_out(&folder.join(JOURNAL)) } else { Vec::new() }
    }

    /// Whether the case of a folder waits for its machine's next start: read without holding the case.
    pub fn waits_for_start(folder: &Path) -> bool {
        folder.join(ABOUT).is_file() && Journal::waits_for_start(&folder.join(JOURNAL))
    }

    /// Whether a folder holds a case.
    pub fn is_in(folder: &Path) -> bool {
        folder.join(ABOUT).is_file()
    }

    /// Makes a file on the machine the case's installer, and keeps a copy of it in the case: a setup that is
    /// cancelled deletes what it had fetched.
    pub fn choose(&mut self, payload: &str, content: &[u8]) -> Result<String, LedgerError> {
        let number = self.journal.lines().iter().filter(|line| matches!(line.entry, Entry::Chosen { .. })).count() + 1;
        let folder = self.folder.join("payloads").join(number.to_string());
        durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
        // The machine's name of a file may be none on this computer.
        let leaf: String = stubble_core::model::path::leaf(payload)
            .chars()
            .map(|letter| if letter.is_alphanumeric() || "-._ ".contains(letter) { letter } else { '_' })
            .collect();
        let leaf = if leaf.trim_matches('.').is_empty() { "payload".to_owned() } else { leaf };
        let copy = format!("payloads/{number}/{leaf}");
        let path = folder.join(&leaf);
        durable::replace(&path, content).map_err(LedgerError::io(&path))?;
        let sha256 = sha256(content);
        self.about.payload = Some(payload.to_owned());
        let anchor = Anchor { kind: AnchorKind::Payload, value: payload.to_owned(), from: "the choice".to_owned() };
        if !self.about.subject.all(AnchorKind::Payload).any(|known| known == payload) {
            self.about.subject.anchors.push(anchor);
        }
        write_json(&self.folder.join(ABOUT), &self.about)?;
        self.journal.append(Entry::Chosen { payload: payload.to_owned(), sha256, copy: copy.clone() })?;
        Ok(copy)
    }

    /// Where the copy of an installer lies on this computer, by its name in the case folder; `None` for what is not there
    /// or leads out of the folder, as in a case from somebody else it might.
    pub fn copy_of_installer(&self, copy: &str) -> Option<PathBuf> {
        let at = self.folder.join(copy);
        let (folder, real) = (self.folder.canonicalize().ok()?, at.canonicalize().ok()?);
        // Setups are not used to names as the system spells them out.
        (real.starts_with(folder.join("payloads")) && real.is_file()).then_some(at)
    }

    /// Adds to what is known of the subject, as `from` tells it.
    pub fn learn(&mut self, from: &str, facts: Vec<Anchor>) -> Result<(), LedgerError> {
        let count = facts.len();
        self.about.subject.anchors.extend(facts);
        self.about.subject.anchors.sort();
        write_json(&self.folder.join(ABOUT), &self.about)?;
        self.journal.append(Entry::Learned { from: from.to_owned(), facts: count })
    }

    /// The folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Whether an interruption has left a step or a loan half done. The machine shows a part of it only, and no plan can
    /// be checked against that: [`finish`](crate::finish) comes first.
    pub fn is_half_done(&self) -> bool {
        let is_open = |state| matches!(state, DeedState::Open | DeedState::Undoing);
        self.journal.deeds().iter().any(|deed| is_open(deed.state))
            || self.journal.loans().iter().any(|loan| is_open(loan.state))
    }

    /// Keeps a survey.
    pub fn keep_survey(&self, moment: Moment, survey: &Survey) -> Result<(), LedgerError> {
        Ok(capture::write(survey, &self.folder.join("surveys").join(moment.file()))?)
    }

    /// The file of the survey that was kept last; `None` where there is none.
    pub fn last_picture(&self) -> Option<PathBuf> {
        let moments = [Moment::AfterInstall, Moment::BeforeInstall, Moment::BeforeClear];
        let files = moments.map(|moment| self.folder.join("surveys").join(moment.file()));
        let modified = |file: &PathBuf| fs::metadata(file).and_then(|meta| meta.modified()).ok();
        files.into_iter().filter(|file| file.is_file()).max_by_key(modified)
    }

    /// A survey that was kept, or `None` where there is none.
    pub fn survey(&self, moment: Moment) -> Result<Option<Survey>, LedgerError> {
        match capture::read(&self.folder.join("surveys").join(moment.file())) {
            Ok(survey) => Ok(Some(survey)),
            Err(MachineError::Absent(_)) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Writes a file of the case, such as a receipt, a report or a log.
    pub fn write(&self, name: &str, content: &[u8]) -> Result<PathBuf, LedgerError> {
        let path = self.folder.join(name);
        durable::replace(&path, content).map_err(LedgerError::io(&path))?;
        Ok(path)
    }

    /// Reads a file of the case that is JSON; `None` where it is not there.
    pub fn read<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>, LedgerError> {
        let path = self.folder.join(name);
        if path.exists() { read_json(&path).map(Some) } else { Ok(None) }
    }

    /// Every file, folder, key and value that is taken now, and the values in which the machine is
    /// asked for something on our behalf.
    pub fn taken(&self) -> Result<Vec<Place>, LedgerError> {
        let mut places = Vec::new();
        let now = |deed: &Deed| matches!(deed.state, DeedState::Done | DeedState::Discarded | DeedState::PutOff);
        for deed in self.journal.deeds().iter().filter(|deed| now(deed)) {
            for piece in self.record(deed.number)? {
                places.extend(piece.taken().filter(|_| deed.state != DeedState::PutOff));
                places.extend(piece.otherwise());
            }
            let effect = uninstaller::effect_of(self, deed.number)?;
            for piece in effect.iter().flat_map(|effect| &effect.pieces) {
                places.extend(piece.taken());
                places.extend(piece.otherwise());
            }
        }
        places.extend(self.lent_values()?);
        Ok(places)
    }

    /// The vault's folder for a deed.
    pub(crate) fn vault(&self, deed: u32) -> PathBuf {
        self.folder.join("vault").join(format!("{deed:04}"))
    }

    /// A name that only this case has.
    pub(crate) fn own_name(&self) -> String {
        format!("case-{}", &short_digest(self.about.opened.as_bytes())[..12])
    }

    /// Keeps the machine's registry as it was before this case changed it.
    pub(crate) fn keep_registry(&self, machine: &dyn Alter) -> Result<(), LedgerError> {
        let kept = self.holding(machine, None)?.join(REGISTRY);
        make_room(&kept, machine, None)?;
        Ok(machine.keep_registry(&kept)?)
    }

    /// The folder into which what lies at a path, or on the system drive for none, is taken: the one that was
    /// chosen, or in the case, where that lies on the same file system; else on that drive, under a name that only
    /// this case has.
    pub fn holding(&self, machine: &dyn Alter, of: Option<&str>) -> Result<PathBuf, LedgerError> {
        if let Some(chosen) = &self.about.vault {
            match machine.can_hold(chosen, of) {
                Ok(()) => return Ok(chosen.join(self.own_name())),
                Err(MachineError::OtherFileSystem(_)) => {}
                Err(error) => return Err(error.into()),
            }
        }
        match machine.can_hold(&self.folder, of) {
            Ok(()) => Ok(self.folder.join("vault")),
            Err(MachineError::OtherFileSystem(_)) => Ok(machine.own_vault(of).join(self.own_name())),
            Err(error) => Err(error.into()),
        }
    }
}

/// Makes the folder in which something from a path is to be held. One at the top of a drive of the machine is for
/// administrators only.
pub(crate) fn make_room(held: &Path, machine: &dyn Alter, of: Option<&str>) -> Result<(), LedgerError> {
    let Some(folder) = held.parent() else { return Ok(()) };
    if held.starts_with(machine.later_vault(of).0) {
        machine.make_vault(of)?;
    }
    // A link that somebody has made under one of our names would lead what is taken out of the vault.
    let ours = folder.ancestors().take(ABOVE_HELD);
    if let Some(link) = ours.into_iter().find(|above| above.symlink_metadata().is_ok_and(|meta| meta.is_symlink())) {
        let why = "it is a link in the place of a folder of the vault; remove it first".to_owned();
        return Err(MachineError::Refused { path: link.display().to_string(), why }.into());
    }
    durable::make_folders(folder).map_err(LedgerError::io(folder))
}

/// Folders of the vault above what is held: the piece's, the deed's, the case's.
const ABOVE_HELD: usize = 3;

/// Where what is taken is carried to, once it is taken, because the vault was chosen to be on
/// another file system.
#[derive(Clone, Debug)]
pub(crate) struct Elsewhere {
    /// The contents of files, by their digests.
    pub store: PathBuf,
    folder: PathBuf,
    /// The folder that was chosen.
    vault: PathBuf,
}

impl Elsewhere {
    /// The folder for a deed.
    pub(crate) fn folder_of(&self, deed: u32) -> PathBuf {
        self.folder.join(format!("{deed:04}"))
    }

    /// The listing of a piece of a deed.
    pub(crate) fn listing(&self, deed: u32, piece: usize) -> PathBuf {
        self.folder_of(deed).join(format!("{piece}.json"))
    }

    /// All listings that are there.
    pub(crate) fn listings(&self) -> Vec<PathBuf> {
        let below = |folder: &Path| fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let deeds = below(&self.folder).filter(|path| path.is_dir() && *path != self.store);
        let files = deeds.flat_map(|deed| below(&deed).collect::<Vec<_>>());
        files.filter(|path| path.extension().is_some_and(|end| end == "json")).collect()
    }
}

impl Case {
    /// The place that was chosen for the vault, where it is on another file system than what lies at a path, or than
    /// the system drive for none.
    pub(crate) fn elsewhere(&self, machine: &dyn Alter, of: Option<&str>) -> Result<Option<Elsewhere>, LedgerError> {
        let Some(chosen) = self.chosen_vault() else { return Ok(None) };
        match machine.can_hold(&chosen.vault, of) {
            Ok(()) => Ok(None),
            Err(MachineError::OtherFileSystem(_)) => Ok(Some(chosen)),
            Err(error) => Err(error.into()),
        }
    }

    /// Digests of a deed's listings in the chosen vault, by the numbers of its pieces.
    pub(crate) fn listings_of(&self, deed: u32) -> Result<BTreeMap<String, String>, LedgerError> {
        let Some(elsewhere) = self.chosen_vault() else { return Ok(BTreeMap::new()) };
        let files = fs::read_dir(elsewhere.folder_of(deed)).into_iter().flatten().flatten().map(|entry| entry.path());
        let is_number = |name: &str| name.bytes().all(|byte| byte.is_ascii_digit());
        let numbered = files
            .filter_map(|path| Some((path.file_stem()?.to_str().filter(|name| is_number(name))?.to_owned(), path)));
        let read = |(piece, path): (String, PathBuf)| match fs::read(&path) {
            Ok(bytes) => Ok((piece, short_digest(&bytes))),
            Err(error) => Err(LedgerError::io(&path)(error)),
        };
        numbered.filter(|(_, path)| path.is_file()).map(read).collect()
    }

    /// The place that was chosen for the vault.
    pub(crate) fn chosen_vault(&self) -> Option<Elsewhere> {
        let vault = self.about.vault.clone()?;
        let folder = vault.join(self.own_name());
        Some(Elsewhere { store: folder.join("contents"), folder, vault })
    }
}

/// The first half of a BLAKE3 digest, in hexadecimal digits.
pub fn short_digest(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex()[..32].to_owned()
}

/// The lock is the operating system's: it ends with the process, however that ends.
fn lock(folder: &Path) -> Result<File, LedgerError> {
    let path = folder.join("lock");
    let file = File::options().create(true).truncate(false).write(true).open(&path).map_err(LedgerError::io(&path))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(TryLockError::WouldBlock) => Err(LedgerError::Locked(folder.to_owned())),
        Err(TryLockError::Error(error)) => Err(LedgerError::io(&path)(error)),
    }
}

fn read_json<T: DeserializeOwned>(path: &Path) -> Result<T, LedgerError> {
    let bytes = fs::read(path).map_err(LedgerError::io(path))?;
    serde_json::from_slice(&bytes)
        .map_err(|error| LedgerError::Damaged { path: path.to_owned(), why: error.to_string() })
}

pub(crate) fn write_json<T: Serialize>(path: &Path, value: &T) -> Result<(), LedgerError> {
    let text = serde_json::to_vec_pretty(value).map_err(std::io::Error::from).map_err(LedgerError::io(path))?;
    durable::replace(path, &text).map_err(LedgerError::io(path))
}
