//! From `--on` to a machine. The only file that names a backend.

use std::path::Path;

use stubble_core::survey::Survey;
use stubble_machine::bench::{Bench, demo, world};
use stubble_machine::capture::Capture;
use stubble_machine::disk::Disk;
use stubble_machine::{Alter, Observe};

use crate::errors::CliError;

/// The forms that `--on` has.
const HERE: &str = "here";
const BENCH: &str = "bench:";
const DISK: &str = "disk:";
const CAPTURE: &str = "capture:";

/// A machine, as far as it can be used.
pub enum Machine {
    /// It can be read and changed.
    Whole(Box<dyn Alter>),
    /// It can only be read.
    Picture(Box<dyn Observe>),
}

impl Machine {
    /// The machine, for reading.
    pub fn observe(&self) -> &dyn Observe {
        match self {
            Self::Whole(machine) => &**machine,
            Self::Picture(machine) => &**machine,
        }
    }

    /// The machine, for changing. Fails where there is nothing that could be changed.
    pub fn alter(&self) -> Result<&dyn Alter, CliError> {
        match self {
            Self::Whole(machine) => Ok(&**machine),
            Self::Picture(_) => Err(CliError::OnlyAPicture),
        }
    }
}

/// The machine that a specification names. The case's folder is no part of it, also where it lies on it.
pub fn machine(on: &str, case: &Path) -> Result<Machine, CliError> {
    match split(on)? {
        (HERE, _) => here(case),
        (BENCH, folder) => Ok(Machine::Whole(Box::new(Bench::open(Path::new(folder))?))),
        (DISK, folders) => {
            let (folder, drives) = drives(folders);
            let drives: Vec<_> = drives.into_iter().map(|(drive, folder)| (drive, folder.into())).collect();
            let mut disk = Disk::mounted_with(Path::new(folder), &drives)?;
            disk.hide(case);
            Ok(Machine::Whole(Box::new(disk)))
        }
        (_, file) => picture_of(Path::new(file)),
    }
}

#[cfg(windows)]
fn here(case: &Path) -> Result<Machine, CliError> {
    let mut here = stubble_machine::here::Here::open()?;
    here.hide(case);
    Ok(Machine::Whole(Box::new(here)))
}

/// There is no other system that it could be.
#[cfg(not(windows))]
fn here(_case: &Path) -> Result<Machine, CliError> {
    Err(CliError::NotWindows)
}

/// The specification with a full path, so that it means the same from any folder.
pub fn full(on: &str) -> Result<String, CliError> {
    let (kind, path) = split(on)?;
    if kind == HERE {
        return Ok(HERE.to_owned());
    }
    let full = |path: &str| std::path::absolute(path).map_err(|source| CliError::Io { path: path.into(), source });
    if kind != DISK {
        return Ok(format!("{kind}{}", full(path)?.display()));
    }
    let (folder, others) = drives(path);
    let mut on = format!("{kind}{}", full(folder)?.display());
    for (drive, folder) in others {
        on.push_str(&format!(",{}={}", drive.trim_end_matches(':'), full(folder)?.display()));
    }
    Ok(on)
}

/// An installer's path as it is kept in a case: on a machine as it was given; with a capture it is a file of this
/// computer, and means the same from any folder.
pub fn kept_installer(payload: &str, on: &str) -> Result<String, CliError> {
    match split(on)? {
        (CAPTURE, _) if Path::new(payload).exists() => {
            let full = std::path::absolute(payload);
            Ok(full.map_err(|source| CliError::Io { path: payload.into(), source })?.display().to_string())
        }
        _ => Ok(payload.to_owned()),
    }
}

/// A disk's folder, and those of that machine's other drives: `/mnt/c,D=/mnt/d`.
fn drives(folders: &str) -> (&str, Vec<(String, &str)>) {
    let starts_drive = |at: &usize| {
        let mut letters = folders[*at + 1..].chars();
        letters.next().is_some_and(|letter| letter.is_ascii_alphabetic()) && letters.next() == Some('=')
    };
    let cuts: Vec<usize> = folders.match_indices(',').map(|(at, _)| at).filter(starts_drive).collect();
    let ends = cuts.iter().skip(1).copied().chain([folders.len()]);
    let others = cuts.iter().zip(ends).map(|(at, end)| {
        let (letter, folder) = folders[*at + 1..end].split_at(2);
        (letter.to_uppercase().replace('=', ":"), folder)
    });
    (cuts.first().map_or(folders, |at| &folders[..*at]), others.collect())
}

/// Whether the machine runs, so that an installer can be started on it.
pub fn runs(on: &str) -> bool {
    on == HERE || on.starts_with(BENCH)
}

/// Whether the machine changes by itself while we look.
pub fn goes_on_by_itself(on: &str) -> bool {
    on == HERE
}

/// Whether a text is meant as a machine.
pub fn is_machine(text: &str) -> bool {
    split(text).is_ok()
}

fn split(on: &str) -> Result<(&'static str, &str), CliError> {
    if on == HERE {
        return Ok((HERE, ""));
    }
    let forms = [BENCH, DISK, CAPTURE].into_iter();
    let mut found = forms.filter_map(|form| Some((form, on.strip_prefix(form).filter(|path| !path.is_empty())?)));
    found.next().ok_or_else(|| CliError::WrongMachine { on: on.to_owned() })
}

/// Writes a picture of a machine to a file; tells its size in bytes.
pub fn keep_picture(survey: &Survey, file: &Path) -> Result<u64, CliError> {
    stubble_machine::capture::write(survey, file)?;
    Ok(std::fs::metadata(file).map_err(|source| CliError::Io { path: file.into(), source })?.len())
}

/// A machine of which there is a picture only.
pub fn picture_of(file: &Path) -> Result<Machine, CliError> {
    Ok(Machine::Picture(Box::new(Capture::open(file)?)))
}

/// Reads a picture from a file.
pub fn picture(file: &Path) -> Result<Survey, CliError> {
    Ok(Capture::open(file)?.survey()?)
}

/// Builds the demo's broken machine in an empty folder and tells its specification.
pub fn demo(folder: &Path) -> Result<String, CliError> {
    world::build(demo::WORLD, &demo::package, folder)?;
    full(&format!("{BENCH}{}", folder.display()))
}

/// Builds a practice machine from a description in an empty folder and tells its specification. Packages are described
/// beside it, in `packages/NAME.toml`; the demo's are known as well.
pub fn practice(file: &Path, folder: &Path) -> Result<String, CliError> {
    let text = std::fs::read_to_string(file).map_err(|source| CliError::Io { path: file.to_owned(), source })?;
    let packages = file.parent().unwrap_or(Path::new(".")).join("packages");
    let package = |name: &str| {
        let is_plain = !name.contains(['/', '\\']);
        let own = is_plain.then(|| std::fs::read_to_string(packages.join(format!("{name}.toml"))).ok()).flatten();
        own.or_else(|| demo::package(name))
    };
    world::build(&text, &package, folder)?;
    full(&format!("{BENCH}{}", folder.display()))
}

/// Removes the folder of an earlier demo. A folder that is none is left alone.
pub fn discard_demo(folder: &Path) -> Result<(), CliError> {
    Ok(world::discard(folder)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_disk_may_have_other_drives() {
        assert_eq!(drives("/mnt/c"), ("/mnt/c", vec![]));
        assert_eq!(drives("/mnt/a, b"), ("/mnt/a, b", vec![]));
        let both = ("/mnt/c", vec![("D:".to_owned(), "/mnt/a,b"), ("E:".to_owned(), "F:\\")]);
        assert_eq!(drives("/mnt/c,d=/mnt/a,b,E=F:\\"), both);
        let full = full("disk:/mnt/c,d=/mnt/d").unwrap();
        assert!(cfg!(windows) || full == "disk:/mnt/c,D=/mnt/d", "{full}");
    }
}
