//! A small machine, its case and its plan, and what it is before and after.

#![allow(dead_code, clippy::disallowed_methods)]

use std::cell::Cell;
use std::path::{Path, PathBuf};

use stubble_core::packages::layout::Layout;
use stubble_core::packages::{Package, Registered};
use stubble_core::plan::{Plan, build, from_toml, from_toml_begun, repair, to_toml};
use stubble_core::subject::{Identified, identify};
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Change, Difference, compare};
use stubble_core::trace::{Decision, trace};
use stubble_ledger::{About, Case, DeedState, Outcome, carry_out, finish, putback, restart};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};

/// A small machine with one of each kind of place.
const WORLD: &str = r#"
[computer]
name = "WEIGH-05"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"
network = true

[[user]]
name = "maren"
sid = "S-1-5-21-5-5-5-1001"

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Desk'
values = { DisplayName = "Scale Desk", Publisher = "Fennelgate", InstallLocation = 'C:\Program Files\Scale Desk' }

[[key]]
path = 'HKLM\SOFTWARE\Scale Desk\Bridge'
values = { Port = 47310, Hosts = { multi = ["a", "b"] } }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run'
values = { First = "a.exe", Tray = '"C:\Program Files\Scale Desk\tray.exe"', Zuletzt = "z.exe" }

[[key]]
path = 'HKLM\SYSTEM\ControlSet001\Services\ScaleBridge'
values = { ImagePath = '"C:\Program Files\Scale Desk\bridge.exe"', Start = 2 }

[[file]]
path = 'C:\Program Files\Scale Desk\desk-{1..3}.dll'
size = 64

[[file]]
path = 'C:\ProgramData\Scale Desk\cache.bin'
size = 64

[[process]]
pid = 7
running = true
image = 'C:\Program Files\Scale Desk\tray.exe'

[[key]]
path = 'HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment'
values = { Path = { expand = '%SystemRoot%;C:\Program Files\Scale Desk;C:\Tools' } }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\SharedDLLs'
values = { 'C:\Program Files\Scale Desk\desk-1.dll' = 2, 'C:\Program Files\Scale Desk\desk-2.dll' = 1 }

[[file]]
path = 'C:\Windows\System32\Tasks\Scale Desk Update'
text = '<Task><Actions><Exec><Command>C:\Program Files\Scale Desk\update.exe</Command></Exec></Actions></Task>'

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tree\Scale Desk Update'
values = { Id = "{5D1E0A72-9B3C-4F68-8A17-2C4E6B8D0F31}" }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tasks\{5D1E0A72-9B3C-4F68-8A17-2C4E6B8D0F31}'
values = { Path = '\Scale Desk Update' }
"#;

pub struct Stage {
    pub folder: tempfile::TempDir,
    pub bench: Bench,
    pub plan: Plan,
    pub before: Survey,
    pub cleared: Survey,
    pub about: About,
    /// A vault on another file system, where the test wants one.
    pub elsewhere: Option<tempfile::TempDir>,
    /// What files are to hold that the plan puts right.
    pub contents: Vec<Vec<u8>>,
    /// Whether the plan goes through its file each time; what puts files right is made by hand.
    pub through_file: bool,
    /// The machine is starting: when its power comes back, it starts again.
    pub starting: Cell<bool>,
}

/// The small machine.
pub fn stage() -> Stage {
    let stage = stage_of(WORLD, &|_| None, Decision::Remove);
    assert!(stage.plan.steps.len() >= 11, "{:#?}", stage.plan);
    stage
}

/// A folder in which setup may not write, and a hosts file that redirects the publisher's servers.
const REDIRECTED: &str = r#"
[[rights]]
path = 'C:\ProgramData'
denies = ["S-1-1-0"]
allows = ["S-1-5-18"]

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Desk'
values = { HelpLink = "https://help.fennelgate.example" }

[[file]]
path = 'C:\Windows\System32\drivers\etc\hosts'
text = "127.0.0.1 licence.fennelgate.example\n::1 localhost\n"
"#;

/// The machine of [`stage`], on which access and name lookup can be borrowed too.
pub fn stage_redirected() -> Stage {
    stage_of(&format!("{WORLD}{REDIRECTED}"), &|_| None, Decision::Remove)
}

/// Places of the registry in three hives: values in the middle of a key, two entries of one list, keys beside each other.
const REGISTRY: &str = r#"
[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths\desk.exe'
values = { '' = 'C:\Program Files\Scale Desk\desk.exe' }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths\tray.exe'
values = { '' = 'C:\Program Files\Scale Desk\tray.exe' }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths\other.exe'
values = { '' = 'C:\Tools\other.exe' }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\RunOnce'
values = { A = "a.exe", Scale = '"C:\Program Files\Scale Desk\desk-1.exe"', B = "b.exe", Desk = '"C:\Program Files\Scale Desk\desk-2.exe"', C = "c.exe" }

[[key]]
path = 'HKU\maren\Software\Microsoft\Windows\CurrentVersion\Run'
values = { A = "a.exe", Desk = '"C:\Program Files\Scale Desk\desk.exe"', B = "b.exe", Tray = '"C:\Program Files\Scale Desk\tray.exe"' }

[[key]]
path = 'HKU\maren\Software\Scale Desk'
values = { Window = "40,40,800,600" }

[[key]]
path = 'HKU\maren\Environment'
values = { Path = { expand = 'C:\Tools;C:\Program Files\Scale Desk;C:\Program Files\Scale Desk\bin;C:\More' } }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon'
values = { Shell = '"C:\Program Files\Scale Desk\desk.exe"', Userinit = 'C:\Windows\system32\userinit.exe,' }

[[key]]
path = 'HKLM\SOFTWARE\Classes\exefile\shell\open\command'
values = { '' = '"C:\Program Files\Scale Desk\desk.exe" "%1" %*' }

[[key]]
path = 'HKLM\SYSTEM\ControlSet001\Services\EventLog\Application\Scale Desk'
values = { EventMessageFile = 'C:\Program Files\Scale Desk\desk-1.dll' }
"#;

/// The small machine with much of the subject in its registry.
pub fn stage_registry() -> Stage {
    stage_of(&format!("{WORLD}{REGISTRY}"), &|_| None, Decision::Remove)
}

/// What holds a file of the subject, and starts again after a restart.
const HOLDER: &str = r#"
[[file]]
path = 'C:\Program Files\Sievewell\clock.exe'
size = 64

[[key]]
path = 'HKU\maren\Software\Microsoft\Windows\CurrentVersion\Run'
values = { Clock = '"C:\Program Files\Sievewell\clock.exe"' }

[[process]]
pid = 8
running = true
image = 'C:\Program Files\Sievewell\clock.exe'
holds = ['C:\ProgramData\Scale Desk\cache.bin']
"#;

/// The small machine, on which a file is in use: it goes with a restart.
pub fn stage_in_use() -> Stage {
    stage_of(&format!("{WORLD}{HOLDER}"), &|_| None, Decision::Keep)
}

/// The small machine with a vault on another file system; none where there is no other one.
#[cfg(target_os = "linux")]
pub fn stage_elsewhere() -> Option<Stage> {
    use std::os::unix::fs::MetadataExt;
    let mut stage = stage();
    let other = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let device = |path: &Path| std::fs::metadata(path).unwrap().dev();
    if device(other.path()) == device(stage.folder.path()) {
        return None;
    }
    stage.about.vault = Some(other.path().join("vault"));
    stage.elsewhere = Some(other);
    Some(stage)
}

/// A machine on which the subject is installed and can remove itself, beside another product that shares
/// files with it. In its folder lies what it did not install.
pub const INSTALLED: &str = r#"
[computer]
name = "WEIGH-06"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"

[[user]]
name = "maren"
sid = "S-1-5-21-6-6-6-1001"

[[installed]]
source = "label-bridge"
from = 'C:\Setup\label-bridge.msi'

[[installed]]
source = "scale-desk-5.1"
from = 'C:\Setup\scale-desk-5.1.msi'

[[file]]
path = 'C:\Program Files\Fennelgate\Scale Desk\crash.dmp'
size = 64
"#;

/// The machine of [`INSTALLED`], with more on it.
pub fn stage_installed(more: &str) -> Stage {
    stage_of(&format!("{INSTALLED}{more}"), &demo::package, Decision::Remove)
}

/// The demo's machine, with every question of its plan answered with yes.
pub fn demo_stage() -> Stage {
    stage_of(demo::WORLD, &demo::package, Decision::Remove)
}

/// A product that is tied into the network: its layer is taken out of the middle of a list.
pub fn stage_network() -> Stage {
    stage_of(include_str!("../../../cli/tests/worlds/network.toml"), &demo::package, Decision::Remove)
}

/// The machine of [`INSTALLED`], of whose product one program is cut, one has other bytes and a text is
/// missing: the plan puts them right.
pub fn stage_damaged() -> Stage {
    let damage = |bench: &Bench, folder: &Path| {
        let own = folder.join("bench/disk/Program Files/Fennelgate/Scale Desk");
        let file = std::fs::File::options().write(true).open(own.join("desk.exe")).unwrap();
        file.set_len(100).unwrap();
        let bytes = std::fs::read(own.join("tray.exe")).unwrap();
        std::fs::write(own.join("tray.exe"), vec![0; bytes.len()]).unwrap();
        let before = bench.survey().unwrap();
        let registered = Registered::read(&before);
        let product = registered.products.values().find(|product| product.name.contains("Scale Desk")).unwrap();
        let bytes = bench.read_file(product.cached_package.as_ref().unwrap(), 1 << 30).unwrap();
        let package = Package::read(&bytes).unwrap();
        let contents = package.contents(&bytes).unwrap();
        let layout = Layout::new(&package, &before.facts);
        let other = package
            .files
            .iter()
            .filter_map(|file| layout.file(&file.id))
            .find(|path| path.contains("Scale Desk") && !path.ends_with(".exe"));
        std::fs::remove_file(own.join(other.unwrap().rsplit_once('\\').unwrap().1)).unwrap();
        let before = bench.survey().unwrap();
        repair(&before, &package, &contents, &|path| bench.read_file(path, 1 << 30).ok(), "Scale Desk")
    };
    stage_with(INSTALLED, &demo::package, Decision::Keep, Some(&damage))
}

/// A machine that was grown from a seed, with every question of its plan answered with yes; none where
/// its subject is not found without doubt.
pub fn stage_grown(seed: u64) -> Option<Stage> {
    let world = stubble_worlds::grow(seed);
    let text = stubble_worlds::description::description(&world);
    let name = world.products[world.subject].name.clone();
    stage_named(&text, &|_| None, Decision::Remove, None, &name)
}

/// Does something to a machine, and makes a plan for it.
type Other<'o> = Option<&'o dyn Fn(&Bench, &Path) -> (Plan, Vec<Vec<u8>>)>;

fn stage_of(world: &str, package: &dyn Fn(&str) -> Option<String>, asked: Decision) -> Stage {
    stage_with(world, package, asked, None)
}

fn stage_with(world: &str, package: &dyn Fn(&str) -> Option<String>, asked: Decision, other: Other<'_>) -> Stage {
    stage_named(world, package, asked, other, "scale desk").expect("one is meant")
}

/// A machine, its plan with what it asks decided, and what both an undone and a finished run must come to.
fn stage_named(
    world: &str,
    package: &dyn Fn(&str) -> Option<String>,
    asked: Decision,
    other: Other<'_>,
    name: &str,
) -> Option<Stage> {
    let folder = stubble_worlds::scratch();
    let bench = world::build(world, package, &folder.path().join("bench")).unwrap();
    let other = other.map(|other| other(&bench, folder.path()));
    let before = bench.survey().unwrap();
    let registered = Registered::read(&before);
    let Identified::One(subject) = identify(&before, &registered, &[], name) else { return None };
    let traced = || build(&before, &registered, &trace(&before, &registered, &subject), &subject.name);
    let (mut plan, contents) = other.unwrap_or_else(|| (traced(), Vec::new()));
    for step in plan.steps.iter_mut().filter(|step| step.decision == Decision::Ask) {
        step.decision = asked;
    }
    let mut about = About::new("bench".into(), before.facts.computer.clone(), *subject, None);
    about.machine = before.facts.identity.clone();
    let before_again = bench.survey().unwrap();
    let through_file = from_toml(&to_toml(&plan), &before).is_ok();
    assert!(through_file || !contents.is_empty(), "the plan is one that the program accepts");
    let stage = Stage {
        folder,
        bench,
        plan,
        cleared: before_again,
        before,
        about,
        elsewhere: None,
        contents,
        through_file,
        starting: Cell::new(false),
    };
    let mut first = stage.fresh_case();
    stage.clear_with(&mut first);
    let cleared = stage.bench.survey().unwrap();
    putback(&mut first, &stage.bench, &[], &mut |_| {}).unwrap();
    drop(first);
    stage.assert_is(&stage.before, "after the first run");
    Some(Stage { cleared, ..stage })
}

impl Stage {
    pub fn case_folder(&self) -> PathBuf {
        self.folder.path().join("case")
    }

    /// A case in which nothing was done yet, in place of the one that is there.
    pub fn fresh_case(&self) -> Case {
        let folder = self.case_folder();
        if folder.exists() {
            std::fs::remove_dir_all(&folder).unwrap();
        }
        if let Some(vault) = &self.about.vault {
            let _ = std::fs::remove_dir_all(vault);
            std::fs::create_dir_all(vault).unwrap();
        }
        let case = Case::create(&folder, self.about.clone()).unwrap();
        for content in &self.contents {
            case.keep_content(content).unwrap();
        }
        case
    }

    pub fn case(&self) -> Case {
        Case::open(&self.case_folder()).unwrap()
    }

    pub fn assert_is(&self, wanted: &Survey, when: &str) {
        let now = self.bench.survey().unwrap();
        assert_eq!(differences(wanted, &now), [], "{when}");
        assert_eq!(wanted.running, now.running, "{when}");
    }

    /// Carries the plan out to its end, with a restart where one is needed.
    pub fn clear(&self) {
        self.clear_with(&mut self.case());
    }

    pub fn clear_with(&self, case: &mut Case) {
        let plan = self.plan_read_again(case);
        let reports = carry_out(case, &self.bench, &plan, &mut |_| {}).unwrap();
        if reports.iter().any(|report| matches!(report.outcome, Outcome::PutOff { .. })) {
            self.starting.set(true);
            restart(case, &self.bench).unwrap();
            self.starting.set(false);
            carry_out(case, &self.bench, &plan, &mut |_| {}).unwrap();
        }
    }

    /// The plan by way of its file, as the program reads it: checked against the machine as it is now, which may be
    /// half changed.
    fn plan_read_again(&self, case: &mut Case) -> Plan {
        if case.is_half_done() {
            finish(case, &self.bench).unwrap();
        }
        if !self.through_file {
            return self.plan.clone();
        }
        let survey = self.bench.survey().unwrap();
        let has_begun = case.journal.deeds().iter().any(|deed| deed.state != DeedState::Over);
        from_toml_begun(&to_toml(&self.plan), &survey, has_begun.then_some(&self.before)).unwrap()
    }

    /// Puts everything back.
    pub fn undo(&self) {
        let returned = putback(&mut self.case(), &self.bench, &[], &mut |_| {}).unwrap();
        assert!(returned.iter().all(|one| one.refused.is_none()), "{returned:#?}");
    }
}

/// What differs, but for the time of the key in which Windows itself, at a start, deletes what it
/// was asked for.
pub fn differences(wanted: &Survey, now: &Survey) -> Vec<Change> {
    let mut changes = compare(wanted, now);
    changes.retain(|one| one.how != Difference::Touched || !one.place.path.ends_with("Control\\Session Manager"));
    changes
}
