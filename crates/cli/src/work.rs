//! What most commands begin with: the case, its machine, and what is on it now.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stubble_core::blockers::{closed, targets};
use stubble_core::confirm::seal::sha256;
use stubble_core::content::checked_list::{self, CheckedList};
use stubble_core::content::{hosts, program};
use stubble_core::footprint::Footprint;
use stubble_core::loans::{Beside, Loan, hosts_file, offered};
use stubble_core::logs::Run;
use stubble_core::model::access::AccessList;
use stubble_core::model::path::leaf;
use stubble_core::model::text::fold;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::packages::{Package, Registered};
use stubble_core::payloads::{Launch, carried};
use stubble_core::plan::{Plan, from_toml_begun, keep_with_drivers};
use stubble_core::subject::PackageFile;
use stubble_core::survey::{EntryKind, Gap, Survey};
use stubble_core::trace::{Scene, Trace, trace};
use stubble_ledger::{Case, DeedState, Moment, finish};
use stubble_machine::{MachineError, Observe, Setup};

use crate::Ui;
use crate::errors::CliError;
use crate::machines::{Machine, machine, picture_of};

/// The largest file that is read as a package.
const LARGEST_PACKAGE: u64 = 2 << 30;

/// Packages with more in them than this are not unpacked for a look.
const LARGEST_LOOK: u64 = 1 << 30;

/// The largest installed file that is compared by content.
pub const LARGEST_FILE: u64 = 4 << 30;

/// Settings that are the same for every command.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The case folder.
    pub case: PathBuf,
    /// Whether to print JSON.
    pub json: bool,
}

/// An open case with its machine as it is now.
pub struct Work {
    /// The case.
    pub case: Case,
    /// Its machine.
    pub machine: Machine,
    /// The machine as it is now.
    pub survey: Survey,
    /// What the package installer has registered on it.
    pub registered: Registered,
}

impl Work {
    /// Opens the case and surveys its machine.
    pub fn begin(settings: &Settings) -> Result<Self, CliError> {
        let case = Case::open(&settings.case)?;
        let machine = machine(&case.about.on, case.folder())?;
        Self::survey(case, machine)
    }

    /// Opens the case for a command that only reads. If the machine cannot be reached from here, as a running Windows
    /// from another computer, the last picture of it in the case takes its place, and a note says so.
    pub fn begin_reading(settings: &Settings, ui: &mut Ui) -> Result<Self, CliError> {
        let case = Case::open(&settings.case)?;
        let machine = match (machine(&case.about.on, case.folder()), case.last_picture()) {
            (Err(error), Some(picture)) => {
                let (computer, from) = (&case.about.computer, picture.display());
                ui.tell(&format!(
                    "note: {computer} cannot be reached: {error}. The report is of the picture in {from}.\n"
                ));
                picture_of(&picture)?
            }
            (reached, _) => reached?,
        };
        Self::survey(case, machine)
    }

    fn survey(case: Case, machine: Machine) -> Result<Self, CliError> {
        let survey = machine.observe().survey()?;
        let registered = Registered::read(&survey);
        Ok(Self { case, machine, survey, registered })
    }

    /// Finishes what an interruption has left half done, and surveys the machine again; nothing if there is nothing.
    pub fn finish_half_done(&mut self) -> Result<(), CliError> {
        if self.case.is_half_done() {
            finish(&mut self.case, self.machine.alter()?)?;
            self.survey = self.machine.observe().survey()?;
            self.registered = Registered::read(&self.survey);
        }
        Ok(())
    }

    /// Whether anything is taken now.
    pub fn has_begun(&self) -> bool {
        self.case.journal.deeds().iter().any(|deed| deed.state != DeedState::Over)
    }

    /// The plan as its file has it, checked against the machine.
    pub fn plan(&self) -> Result<Plan, CliError> {
        self.checked(&self.case.plan_text()?)
    }

    /// A plan's text, checked against the machine as it is and, once it was begun, as it was right before.
    pub fn checked(&self, text: &str) -> Result<Plan, CliError> {
        let began = if self.has_begun() { self.case.survey(Moment::BeforeClear)? } else { None };
        let mut plan = from_toml_begun(text, &self.survey, began.as_ref())?;
        keep_with_drivers(&mut plan, began.as_ref().unwrap_or(&self.survey));
        Ok(plan)
    }

    /// What belongs to the subject now.
    pub fn trace(&self) -> Trace {
        trace(&self.survey, &self.registered, &self.case.about.subject)
    }

    /// The scene in which the subject is looked for.
    pub fn scene(&self) -> Scene<'_> {
        Scene::new(&self.survey, &self.registered, &self.case.about.subject)
    }

    /// The case's payload with its tables, where one is known, still there, and has any.
    pub fn payload(&self) -> Result<Option<PackageFile>, CliError> {
        let Some(path) = &self.case.about.payload else { return Ok(None) };
        match self.installer(path) {
            Ok(installer) => Ok(installer.into_package().map(|(file, _)| file)),
            Err(CliError::Machine(MachineError::Absent(_) | MachineError::Unsupported(_))) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// An installer by its name on the machine; where that is gone, the copy that was made when it was chosen. Such a
    /// copy goes by its own path on this computer as well.
    pub fn installer(&self, name: &str) -> Result<Installer, CliError> {
        self.installer_file(name)?.understood()
    }

    /// The same, before anything is made of its content.
    pub fn installer_file(&self, name: &str) -> Result<InstallerFile, CliError> {
        let copies = || self.case.journal.choices().filter_map(|one| Some((one, self.case.copy_of_installer(one.2)?)));
        if let Ok(named) = Path::new(name).canonicalize()
            && let Some((chosen, at)) = copies().find(|(_, at)| at.canonicalize().is_ok_and(|at| at == named))
        {
            return self.copy_of(chosen, &at);
        }
        match self.machine.observe().read_installer(name, LARGEST_PACKAGE) {
            Err(error @ MachineError::Absent(_)) => match copies().find(|((of, ..), _)| fold(of) == fold(name)) {
                Some((chosen, at)) => self.copy_of(chosen, &at),
                None => Err(error.into()),
            },
            content => Ok(InstallerFile { path: name.to_owned(), copy: None, content: content? }),
        }
    }

    /// Reads the copy of a chosen installer, which must be what the journal says that it is.
    fn copy_of(&self, (path, wanted, copy): (&str, &str, &str), at: &Path) -> Result<InstallerFile, CliError> {
        let content = Setup::Copy(at).content(self.machine.observe(), LARGEST_PACKAGE)?;
        let found = sha256(&content);
        if found != wanted {
            let path = at.display().to_string();
            return Err(CliError::OtherContent { path, wanted: wanted.to_owned(), found, copy: None });
        }
        Ok(InstallerFile { path: path.to_owned(), copy: Some(copy.to_owned()), content })
    }

    /// Whether a store package is among what belongs to the subject.
    pub fn is_store_package(&self) -> bool {
        self.trace().remnants.iter().any(|remnant| remnant.place.kind == PlaceKind::StorePackage)
    }

    /// Returns the access lists of the places that setup writes to. A list that cannot be read becomes a gap.
    pub fn access_lists(&self, payload: Option<&PackageFile>, gaps: &mut Vec<Gap>) -> Vec<(Place, AccessList)> {
        let places = payload.map(|file| targets(&file.package, &self.survey, &self.registered)).unwrap_or_default();
        let descriptors = self.machine.observe().access_lists(&places);
        let mut found = Vec::new();
        for (place, descriptor) in places.into_iter().zip(descriptors) {
            match descriptor.as_deref().map(AccessList::parse) {
                Some(Some(list)) => found.push((place, list)),
                other => gaps.push(Gap {
                    what: format!("rights on {}", place.path),
                    why: if other.is_some() { "its access list is damaged" } else { "its access list cannot be read" }
                        .to_owned(),
                }),
            }
        }
        found
    }

    /// Returns the content of the hosts file, if there is one. A file that cannot be read becomes a gap.
    pub fn hosts(&self, gaps: &mut Vec<Gap>) -> Option<Vec<u8>> {
        let path = hosts_file(&self.survey.facts);
        if !self.survey.has_file(&path) {
            return None;
        }
        match self.machine.observe().read_file(&path, hosts::LARGEST) {
            Ok(content) => Some(content),
            Err(error) => {
                gaps.push(Gap { what: path, why: error.to_string() });
                None
            }
        }
    }

    /// Returns everything that this machine can lend.
    ///
    /// Access lists are read only for the places in the payload's tables: without a package, no rights are offered.
    pub fn offered(&self) -> Vec<Loan> {
        let mut gaps = Vec::new();
        let payload = self.payload().unwrap_or_default();
        let closed = closed(&self.access_lists(payload.as_ref(), &mut gaps));
        let hosts = self.hosts(&mut gaps);
        let package = payload.as_ref().map(|file| &file.package);
        let payload = self.case.about.payload.as_deref().map(|path| (path, package));
        offered(&self.survey, &self.trace(), Beside { payload, closed: &closed, hosts: hosts.as_deref() })
    }

    /// The footprint of the case, where it was opened with one.
    pub fn footprint(&self) -> Result<Option<Footprint>, CliError> {
        let path = self.case.folder().join(FOOTPRINT);
        if path.is_file() { read_footprint(&path).map(Some) } else { Ok(None) }
    }

    /// The same, with the libraries that its programs ask for; where those cannot be told, that is a gap.
    pub fn payload_with_imports(&self, gaps: &mut Vec<Gap>) -> Result<Option<PackageFile>, CliError> {
        let Some(mut file) = self.payload()? else { return Ok(None) };
        self.with_imports(&mut file, gaps)?;
        Ok(Some(file))
    }

    /// Adds the libraries that a package's programs ask for; where those cannot be told, that is a gap.
    pub fn with_imports(&self, file: &mut PackageFile, gaps: &mut Vec<Gap>) -> Result<(), CliError> {
        let why = self.read_imports(file)?;
        gaps.extend(why.map(|why| Gap { what: format!("libraries that {} needs", file.path), why }));
        Ok(())
    }

    /// Reads which libraries a package's programs ask for; why that cannot be told, where it cannot.
    fn read_imports(&self, file: &mut PackageFile) -> Result<Option<String>, CliError> {
        let size: u64 = file.package.files.iter().map(|file| file.size).sum();
        if size > LARGEST_LOOK {
            return Ok(Some("there is more in the package than is unpacked for a look".to_owned()));
        }
        let Some((_, bytes)) = self.installer(&file.path)?.into_package() else { return Ok(None) };
        match file.package.contents(&bytes) {
            Ok(contents) => file.package.look_into(&contents),
            Err(error) => return Ok(Some(error.to_string())),
        }
        let system = format!("{}\\System32\\kernel32.dll", self.survey.facts.windows);
        let cannot_tell = !file.package.imports.is_empty() && !self.survey.exists(&system);
        Ok(cannot_tell.then(|| "the system's own libraries are not on this disk".to_owned()))
    }

    /// What the product's own lists of checksums say against its content, see [`checked_list::check`].
    pub fn checked_lists(&self, trace: &Trace, most_copies: usize) -> Vec<CheckedList> {
        let places: Vec<&Place> = trace.remnants.iter().map(|remnant| &remnant.place).collect();
        let read = |path: &str, most: u64| self.machine.observe().read_file(path, most).ok();
        checked_list::check(&self.survey, &places, &read, most_copies)
    }

    /// Says so when what is found now is what setup has installed in this case.
    pub fn note_new_install(&self, ui: &mut Ui) {
        if let Some((payload, _)) = self.case.journal.installed_since() {
            ui.tell(&format!(
                "note: {payload} was installed in this case; what is found now is the new installation\n"
            ));
        }
    }
}

/// The file of the case that holds the log that was read last.
pub const DIAGNOSIS: &str = "diagnosis.json";

/// The log that was read last, and the install that failed in it.
#[derive(Debug, Serialize, Deserialize)]
pub struct ReadLog {
    /// The log, as it was named.
    pub log: String,
    /// The install that it was asked about.
    pub run: Option<Run>,
}

/// The file of the case that holds its footprint.
pub const FOOTPRINT: &str = "footprint.toml";

/// Reads a footprint on this computer.
pub fn read_footprint(path: &Path) -> Result<Footprint, CliError> {
    let text = std::fs::read_to_string(path).map_err(|source| CliError::Io { path: path.to_owned(), source })?;
    Footprint::parse(&text).map_err(|source| CliError::Footprint { path: path.to_owned(), source })
}

/// An installer: a package, or a program, which may carry one.
pub struct Installer {
    /// Its path.
    pub path: String,
    /// Name and version of what it installs, as far as it tells.
    pub what: String,
    /// How it is started.
    pub launch: Launch,
    /// The package that it is or carries, the largest of several; none in a program that carries none.
    pub package: Option<Package>,
    /// The whole file.
    pub content: Vec<u8>,
    /// Its copy in the case folder, where that is what was read.
    pub copy: Option<String>,
    /// The bytes of the package, where it is carried.
    inside: Option<Vec<u8>>,
}

impl Installer {
    /// Reads one on the machine or within its reach.
    pub fn read(machine: &dyn Observe, path: &str) -> Result<Self, CliError> {
        let content = machine.read_installer(path, LARGEST_PACKAGE)?;
        InstallerFile { path: path.to_owned(), copy: None, content }.understood()
    }

    /// Its package and that package's bytes, where there is one.
    pub fn into_package(self) -> Option<(PackageFile, Vec<u8>)> {
        let file = PackageFile { path: self.path, package: self.package?, carried: self.inside.is_some() };
        Some((file, self.inside.unwrap_or(self.content)))
    }
}

/// The file of an installer.
pub struct InstallerFile {
    /// Its path on the machine.
    pub path: String,
    /// Its copy in the case folder, where that is what was read.
    pub copy: Option<String>,
    /// The whole file.
    pub content: Vec<u8>,
}

impl InstallerFile {
    /// What it is and installs.
    pub fn understood(self) -> Result<Installer, CliError> {
        let Self { path, copy, content } = self;
        let launch = Launch::of(&content);
        let (package, inside) = match launch {
            Launch::Package => {
                let wrong = |source| CliError::Payload { path: path.clone(), source };
                (Some(Package::read(&content).map_err(wrong)?), None)
            }
            Launch::Quiet { .. } | Launch::Asks => {
                carried(&content).into_iter().next().map(|inside| (inside.package, inside.content)).unzip()
            }
        };
        let what = match &package {
            Some(package) => format!("{} {}", package.name, package.version),
            None => program::parse(&program::at_hand(&content))
                .filter(|version| !version.product.is_empty())
                .map_or_else(|| leaf(&path).to_owned(), |version| format!("{} {}", version.product, version.version)),
        };
        Ok(Installer { path, what, launch, package, content, copy, inside })
    }
}

/// Reads the package that an installer is or carries: its tables, and its bytes. Fails where there is none.
pub fn read_package(machine: &dyn Observe, path: &str) -> Result<(PackageFile, Vec<u8>), CliError> {
    Installer::read(machine, path)?.into_package().ok_or_else(|| CliError::Program(path.to_owned()))
}

/// Packages that lie in the users' download folders. What cannot be read as one is passed over:
/// it was not asked for.
pub fn downloaded_packages(machine: &dyn Observe, survey: &Survey) -> Vec<PackageFile> {
    let mut found = Vec::new();
    for user in &survey.facts.users {
        let Some(folder) = survey.files.find(&user.folder("{374DE290-123F-4565-9164-39C4925E467B}")) else { continue };
        for file in survey.files.children(folder) {
            let path = survey.files.path(file);
            let is_package = survey.files.data(file).kind == EntryKind::File && path.to_lowercase().ends_with(".msi");
            if !is_package {
                continue;
            }
            let Ok(content) = machine.read_file(&path, LARGEST_PACKAGE) else { continue };
            let file = InstallerFile { path, copy: None, content };
            found.extend(file.understood().ok().and_then(Installer::into_package).map(|(file, _)| file));
        }
    }
    found
}

/// The folder of the case when none is named.
pub fn default_case() -> &'static Path {
    Path::new("stubble-case")
}
