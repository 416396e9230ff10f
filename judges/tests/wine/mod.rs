//! A Windows in a Wine prefix of its own, driven from outside.

use std::collections::BTreeSet;
use std::fs;
use std::io::{Read, Seek};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

/// A Windows of its own, which ends when it is dropped.
pub struct Windows {
    folder: tempfile::TempDir,
}

/// What is compared before and after: the registry as the system itself exports it, and all files with
/// their sizes and times.
#[derive(PartialEq, Eq)]
pub struct State {
    registry: Vec<String>,
    files: Vec<(String, u64, filetime::FileTime)>,
}

/// Seconds after which a command does not end any more; the slowest takes 40 on a loaded machine.
const PATIENCE: &str = "400";

/// The parts of the registry that are compared: what Wine itself keeps changing is elsewhere.
const ROOTS: [&str; 3] = ["HKLM\\SOFTWARE", "HKLM\\SYSTEM\\CurrentControlSet\\Services", "HKCU\\Software"];

fn given() -> PathBuf {
    std::env::var_os("STUBBLE_WINDOWS").expect("STUBBLE_WINDOWS names what the suite has made").into()
}

/// Runs a command and reads what it said from files: a pipe would stay open as long as a service of Windows lives that
/// the command happened to start.
fn heard(command: &mut Command) -> Output {
    let [mut out, mut err] = [(); 2].map(|()| tempfile::tempfile().unwrap());
    let status = command.stdout(out.try_clone().unwrap()).stderr(err.try_clone().unwrap()).status().unwrap();
    let [stdout, stderr] = [&mut out, &mut err].map(|file| {
        let mut told = Vec::new();
        file.rewind().and_then(|()| file.read_to_end(&mut told)).unwrap();
        told
    });
    Output { status, stdout, stderr }
}

impl Windows {
    /// A copy of the prefix, with the packages in `C:\setup` and the program in `C:\work`.
    pub fn fresh(name: &str) -> Self {
        let folder = tempfile::Builder::new().prefix(name).tempdir().unwrap();
        let copied =
            Command::new("cp").arg("-a").arg(given().join("prefix")).arg(folder.path().join("prefix")).status();
        assert!(copied.unwrap().success());
        fs::create_dir_all(folder.path().join("home")).unwrap();
        let pc = Self { folder };
        for folder in ["setup", "work"] {
            fs::create_dir_all(pc.drive(folder)).unwrap();
        }
        for file in fs::read_dir(given().join("packages")).unwrap().map(Result::unwrap) {
            fs::copy(file.path(), pc.drive("setup").join(file.file_name())).unwrap();
        }
        fs::copy(given().join("stubble.exe"), pc.drive("work/stubble.exe")).unwrap();
        // Its server stays, so that services live on between two commands.
        pc.command("wineserver").arg("-p").status().unwrap();
        // What runs in the background from here on must not hold a pipe of ours open.
        let quiet = |command: &mut Command| command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
        quiet(pc.command("wine").args(["cmd", "/c", "exit"]));
        pc
    }

    /// The same, with products that are installed.
    pub fn with(name: &str, products: &[&str]) -> Self {
        let pc = Self::fresh(name);
        for product in products {
            assert_eq!(pc.install(product), 0, "{product} of {products:?}");
        }
        pc
    }

    fn drive(&self, path: &str) -> PathBuf {
        self.folder.path().join("prefix/drive_c").join(path)
    }

    /// A command in this Windows that is ended after a while: Wine stands still now and then, and a suite that waits
    /// for it would say nothing at all.
    fn command(&self, program: &str) -> Command {
        let mut command = self.endless("timeout");
        command.args(["-k", "5", PATIENCE, program]);
        command
    }

    fn endless(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        let home = self.folder.path().join("home");
        command
            .env_remove("DISPLAY")
            .env_remove("STUBBLE_CASE")
            .env("HOME", &home)
            .env("XDG_DATA_HOME", &home)
            .env("WINEPREFIX", self.folder.path().join("prefix"))
            .env("WINEDEBUG", "-all")
            .env("WINEDLLOVERRIDES", "winemenubuilder.exe=d;winedbg.exe=d;mscoree=d;mshtml=d")
            .current_dir(self.drive("work"))
            .stdin(Stdio::null());
        command
    }

    /// # Panics
    /// With what runs in this Windows, where the command did not end.
    fn wine(&self, args: &[&str]) -> Output {
        let mut command = self.command("wine");
        let out = heard(command.args(args));
        assert!(out.status.code() != Some(124), "Wine stood still: {args:?} did not end\n{}", self.running());
        out
    }

    /// The command lines of everything that runs in it.
    fn running(&self) -> String {
        let line = |number: &String| fs::read(format!("/proc/{number}/cmdline")).unwrap_or_default();
        let shown = |number: &String| String::from_utf8_lossy(&line(number)).replace('\0', " ");
        self.numbers("").iter().map(shown).collect::<Vec<_>>().join("\n")
    }

    /// Installs a package quietly; the exit code is read inside, since only a part of it comes out.
    pub fn install(&self, product: &str) -> u32 {
        self.installer(&format!("/i C:\\setup\\{product}.msi /qn"))
    }

    /// The same, into a folder that a person chose.
    pub fn install_into(&self, product: &str, folder: &str) -> u32 {
        self.installer(&format!("/i C:\\setup\\{product}.msi INSTALLDIR=\"{folder}\" /qn"))
    }

    fn installer(&self, args: &str) -> u32 {
        self.answered(&format!("msiexec {args}"))
    }

    fn answered(&self, command: &str) -> u32 {
        let script = self.drive("work/run.cmd");
        fs::write(&script, format!("@{command}\r\n@echo answered=%ERRORLEVEL%\r\n")).unwrap();
        let answer = (0..5).find_map(|number| {
            sleep(Duration::from_secs(number));
            let told = self.wine(&["cmd", "/c", "run.cmd"]);
            let text = String::from_utf8_lossy(&told.stdout).into_owned();
            let code = text.lines().find_map(|line| line.trim().strip_prefix("answered=")?.parse().ok());
            if code.is_none() {
                // Wine's own command line sometimes ends under load before it has begun.
                println!("asked again after {told:?}");
                assert!(text.is_empty() || text.contains("could not be started"), "no answer to {command}");
            }
            code
        });
        fs::remove_file(script).unwrap();
        answer.unwrap_or_else(|| panic!("no answer to {command}"))
    }

    /// Whether a product comes as a package of the package installer.
    pub fn has_package(&self, product: &str) -> bool {
        self.drive("setup").join(format!("{product}.msi")).is_file()
    }

    /// Runs a setup program quietly.
    pub fn run_setup(&self, product: &str) -> u32 {
        self.answered(&format!("C:\\setup\\{product}.exe /S"))
    }

    /// The program's exit code and what it said.
    pub fn stubble(&self, args: &[&str]) -> (i32, String) {
        let out = self.wine(&[&["stubble.exe"], args].concat());
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (out.status.code().unwrap_or(-1), text(&out.stdout) + &text(&out.stderr))
    }

    /// Runs a command that has to end well.
    pub fn works(&self, args: &[&str], how: &str) {
        let (code, told) = self.stubble(args);
        assert_eq!(code, 0, "{how} {args:?}: {told}");
    }

    /// Its exit code and its document.
    pub fn json(&self, args: &[&str]) -> (i32, serde_json::Value) {
        let out = self.wine(&[&["stubble.exe", "--json"], args].concat());
        let document = serde_json::from_slice(&out.stdout);
        let document = document.unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&out.stderr)));
        (out.status.code().unwrap_or(-1), document)
    }

    /// Keys of the user's settings that are the product's and are kept, as they go on behind `Software`.
    pub fn kept(&self, case: &str) -> Vec<String> {
        let (_, trace) = self.json(&["trace", "--case", case]);
        let remnants = trace["remnants"].as_array().cloned().unwrap_or_default();
        let kept = remnants.iter().filter(|one| one["decision"] == "keep");
        let path =
            |one: &serde_json::Value| Some(one["place"]["path"].as_str()?.split_once("\\Software\\")?.1.to_owned());
        kept.filter_map(path).collect()
    }

    /// Starts a case, in place of one that is there.
    pub fn opened(&self, name: &str, payload: &str) {
        let payload = format!("C:\\setup\\{payload}.msi");
        let mut args = vec!["open", "--on", "here", "--payload", &payload];
        if !name.is_empty() {
            args.insert(1, name);
        }
        let (code, told) = self.stubble(&args);
        assert_eq!(code, 0, "{told}");
    }

    pub fn time_of(&self, args: &[&str]) -> Duration {
        let began = Instant::now();
        let (code, told) = self.stubble(args);
        assert_eq!(code, 0, "{told}");
        began.elapsed()
    }

    /// Runs the program and kills it after a while; tells whether it was still running.
    pub fn killed_after(&self, time: Duration, args: &[&str]) -> bool {
        let mut child = self
            .endless("wine")
            .args([&["stubble.exe"], args].concat())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        sleep(time);
        // The process that was started is the Windows program itself.
        let runs = child.try_wait().unwrap().is_none();
        let _ = child.kill();
        child.wait().unwrap();
        runs
    }

    /// What a file says, where it is there.
    pub fn text(&self, path: &str) -> Option<String> {
        fs::read_to_string(self.drive(path)).ok()
    }

    pub fn delete_tree(&self, path: &str) {
        fs::remove_dir_all(self.drive(path)).unwrap();
    }

    /// Starts a program and does not wait for it.
    pub fn starts(&self, program: &str) {
        let mut command = self.endless("wine");
        command.arg(program).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let leaf = program.rsplit('\\').next().unwrap_or(program);
        let began = Instant::now();
        while !self.runs(leaf) {
            assert!(began.elapsed() < Duration::from_secs(120), "{program} does not start");
            sleep(Duration::from_millis(200));
        }
        // Until it has its window.
        sleep(Duration::from_secs(2));
    }

    /// Starts a program that has no window and writes what its console tells it into a file: alone in a console, or
    /// in one with another program.
    pub fn starts_in_console(&self, program: &str, alone: bool, told: &str) {
        fs::copy(self.drive(&program["C:\\".len()..].replace('\\', "/")), self.drive("work/waiter.exe")).unwrap();
        let how = if alone { "start" } else { "beside" };
        // `start` gives it a console.
        let mut command = self.command("wine");
        command.args(["start", "/min", "C:\\work\\waiter.exe", how, program, told]);
        assert!(command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().success());
        let leaf = program.rsplit('\\').next().unwrap_or(program);
        // One that waits has the name in its own command line.
        let began = Instant::now();
        while self.numbers(leaf).len() != if alone { 1 } else { 2 } {
            assert!(began.elapsed() < Duration::from_secs(120), "{program} does not start");
            sleep(Duration::from_millis(200));
        }
        sleep(Duration::from_secs(2));
    }

    /// Ends everything that runs, and starts Windows again.
    pub fn restart(&self) {
        let quiet = |command: &mut Command| command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
        quiet(self.command("wineserver").args(["-k", "-w"]));
        quiet(self.command("wineserver").arg("-p"));
        quiet(self.command("wine").args(["cmd", "/c", "exit"]));
    }

    /// Whether there is something at that place of the system drive.
    pub fn has(&self, path: &str) -> bool {
        self.drive(path).exists()
    }

    pub fn delete_file(&self, path: &str) {
        fs::remove_file(self.drive(path)).unwrap();
    }

    pub fn has_key(&self, key: &str) -> bool {
        self.wine(&["reg", "query", key]).status.success()
    }

    pub fn delete_key(&self, key: &str) {
        assert!(self.wine(&["reg", "delete", key, "/f"]).status.success(), "{key}");
    }

    /// Deletes the packages that the installer keeps of a product.
    pub fn delete_cached_packages(&self, product: &str) {
        let mut deleted = 0;
        for file in fs::read_dir(self.drive("windows/Installer")).unwrap().map(Result::unwrap) {
            let bytes = fs::read(file.path()).unwrap();
            let is_its = bytes.windows(product.len()).any(|part| part == product.as_bytes());
            if is_its && file.path().extension().is_some_and(|end| end == "msi") {
                fs::remove_file(file.path()).unwrap();
                deleted += 1;
            }
        }
        assert_eq!(deleted, 1, "{product}");
    }

    /// Puts another file's content in a file's place.
    pub fn overwrite(&self, path: &str, by: &str) {
        fs::copy(self.drive(by), self.drive(path)).unwrap();
    }

    /// Whether a program of that name runs in this Windows, as the computer below it sees it.
    pub fn runs(&self, program: &str) -> bool {
        !self.numbers(program).is_empty()
    }

    /// Its processes, by their numbers there.
    fn numbers(&self, program: &str) -> Vec<String> {
        let own = self.folder.path().join("prefix").into_os_string().into_encoded_bytes();
        let all = fs::read_dir("/proc").unwrap().map(Result::unwrap).filter(|process| {
            let told = |file: &str| fs::read(process.path().join(file)).unwrap_or_default();
            let command = String::from_utf8_lossy(&told("cmdline")).to_lowercase();
            command.contains(program) && told("environ").windows(own.len()).any(|part| part == own)
        });
        all.map(|process| process.file_name().to_string_lossy().into_owned()).collect()
    }

    /// Ends a program as a crash does: nobody in this Windows is told before.
    pub fn kill(&self, program: &str) {
        let numbers = self.numbers(program);
        assert!(!numbers.is_empty(), "{program} does not run");
        assert!(Command::new("kill").arg("-9").args(numbers).status().unwrap().success());
    }

    pub fn service_is_known(&self, name: &str) -> bool {
        self.wine(&["sc", "query", name]).status.success()
    }

    pub fn service_runs(&self, name: &str) -> bool {
        String::from_utf8_lossy(&self.wine(&["sc", "query", name]).stdout).contains("RUNNING")
    }

    /// Puts a file of people's own on the second drive.
    pub fn keeps_on_second_drive(&self, path: &str) {
        let file = self.folder.path().join("prefix/drive_d").join(path);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(file, "wheel 4411, 6.02 kg").unwrap();
    }

    /// Whether something is held in our own folder on the second drive.
    pub fn holds_on_second_drive(&self) -> bool {
        let mut held = Vec::new();
        let own = self.folder.path().join("prefix/drive_d/$Stubble");
        collect(&own, "", &mut held);
        held.iter().any(|(path, ..)| path.contains("Scale Desk"))
    }

    /// The bystanders can be repaired and uninstalled: nothing that they need is gone.
    pub fn others_are_well(&self, how: &str) {
        let shared = self.drive("Program Files/Common Files/Fennelgate/Runtime/flgrt64.dll");
        assert!(shared.is_file(), "{how}: the shared run-time");
        for (product, code) in [
            ("label-bridge", "{A6B4D8F9-3062-4B5E-8FB4-AD807251A001}"),
            ("recipes", "{B7C5E90A-4173-4C6F-90C5-BE918362B001}"),
        ] {
            assert_eq!(self.install(product), 0, "{how}: {product} can be installed over itself");
            assert_eq!(self.installer(&format!("/x {code} /qn")), 0, "{how}: {product} can be uninstalled");
        }
        assert!(!self.drive("Program Files/Fennelgate/Label Bridge/label.exe").exists(), "{how}");
    }

    /// The registry, as the system exports it, and the files.
    pub fn state(&self) -> State {
        let mut files = Vec::new();
        collect(&self.drive(""), "C:", &mut files);
        collect(&self.folder.path().join("prefix/drive_d"), "D:", &mut files);
        files.retain(|(path, ..)| !is_ours(path));
        files.sort();
        State { registry: self.exported(), files }
    }

    fn exported(&self) -> Vec<String> {
        let mut all = Vec::new();
        for root in ROOTS {
            let file = self.drive("work/export.reg");
            // Wine's own `reg` gives up where a key goes while it reads.
            let exports = || self.wine(&["reg", "export", root, "export.reg", "/y"]).status.success();
            let is_done = (0..5).any(|number| {
                std::thread::sleep(std::time::Duration::from_millis(400 * number));
                exports()
            });
            assert!(is_done, "{root}");
            let bytes = fs::read(&file).unwrap();
            fs::remove_file(file).unwrap();
            let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
            all.extend(String::from_utf16_lossy(&units).lines().map(str::to_owned));
        }
        all
    }

    /// Every file and key by its path.
    pub fn places(&self) -> BTreeSet<String> {
        self.state().places()
    }

    /// Panics with the first differences where something is not as it was.
    pub fn is_as(&self, wanted: &State, how: &str) {
        is_same(&self.state(), wanted, how);
    }
}

/// Panics with the first differences.
pub fn is_same(found: &State, wanted: &State, how: &str) {
    let lines = |state: &State| -> BTreeSet<String> {
        let files = state.files.iter().map(|file| format!("{file:?}"));
        state.registry.iter().cloned().chain(files).collect()
    };
    let (wanted_lines, found_lines) = (lines(wanted), lines(found));
    let missing: Vec<&String> = wanted_lines.difference(&found_lines).take(10).collect();
    let surplus: Vec<&String> = found_lines.difference(&wanted_lines).take(10).collect();
    assert!(missing.is_empty() && surplus.is_empty(), "{how}: missing {missing:#?}, surplus {surplus:#?}");
    assert!(found == wanted, "{how}: the order is another");
}

impl State {
    /// Every file and key by its path.
    pub fn places(&self) -> BTreeSet<String> {
        let keys = self.registry.iter().filter(|line| line.starts_with("[H")).cloned();
        keys.chain(self.files.iter().map(|(path, ..)| path.clone())).collect()
    }

    /// The same without keys that have one of these parts in their path.
    pub fn without(mut self, parts: &[&str]) -> Self {
        let mut inside = false;
        self.registry.retain(|line| {
            if line.starts_with("[H") {
                inside = parts.iter().any(|part| line.contains(part));
            }
            !inside
        });
        self
    }

    /// The same without times of folders: they tell when something in them was taken.
    pub fn whenever(mut self) -> Self {
        for (_, size, time) in &mut self.files {
            if *size == 0 {
                *time = filetime::FileTime::zero();
            }
        }
        self
    }
}

/// The case and what the suite brings.
fn is_ours(path: &str) -> bool {
    ["C:\\work", "C:\\setup", "C:\\$Stubble", "D:\\$Stubble", "C:\\windows\\temp", "C:\\users\\root\\Temp"]
        .iter()
        .any(|own| path.starts_with(own))
}

fn collect(folder: &Path, shown: &str, found: &mut Vec<(String, u64, filetime::FileTime)>) {
    for item in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let meta = fs::symlink_metadata(item.path()).unwrap();
        let path = format!("{shown}\\{}", item.file_name().to_string_lossy());
        let modified = filetime::FileTime::from_last_modification_time(&meta);
        // Windows keeps times to 100 ns.
        let modified = filetime::FileTime::from_unix_time(modified.unix_seconds(), modified.nanoseconds() / 100 * 100);
        found.push((path.clone(), if meta.is_dir() { 0 } else { meta.len() }, modified));
        if meta.is_dir() {
            collect(&item.path(), &path, found);
        }
    }
}

impl Drop for Windows {
    fn drop(&mut self) {
        let _ = self.command("wineserver").args(["-k", "-w"]).status();
        // What did not hear it.
        let _ = Command::new("kill").arg("-9").args(self.numbers("")).stderr(Stdio::null()).status();
    }
}
