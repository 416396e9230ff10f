//! `check`: what stands in the way of a working install now.

use stubble_core::blockers::{Known, Severity, check};
use stubble_core::content::checked_list::{self, CheckedList};
use stubble_core::content::inf::{self, Inf};
use stubble_core::subject::PackageFile;
use stubble_core::survey::Gap;
use stubble_core::trace::Trace;
use stubble_core::units::drivers::drivers;

use super::show;
use crate::documents::{Checked, Documented};
use crate::errors::CliError;
use crate::views::{terminal, words};
use crate::work::{DIAGNOSIS, ReadLog, Settings, Work};
use crate::{Exit, Ui};

pub fn run(settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    let checked = checked(&work)?;
    // The report shows what was wrong before anything was done.
    if !work.case.folder().join("check.json").exists() {
        work.case.write("check.json", checked.to_json().as_bytes())?;
    }
    show(&checked, settings, ui, terminal::checked);
    let blocked = checked.blockers.iter().any(|blocker| blocker.severity != Severity::WorthKnowing);
    Ok(if blocked { Exit::No } else { Exit::Done })
}

fn checked(work: &Work) -> Result<Checked, CliError> {
    let mut gaps = work.survey.gaps.clone();
    let payload = work.payload_with_imports(&mut gaps)?;
    let meant = payload.as_ref().map(|file| (file.path.as_str(), &file.package));
    let borrowed = work.case.borrowed_values()?;
    // Once setup has worked, what an older log says explains nothing any more.
    let log: Option<ReadLog> = match work.case.journal.last_setup() {
        Some(true) => None,
        _ => work.case.read(DIAGNOSIS)?,
    };
    let log = log.as_ref().and_then(|read| Some((read.log.as_str(), read.run.as_ref()?)));
    let subject = &work.case.about.subject;
    let footprint = work.footprint()?;
    let access = work.access_lists(payload.as_ref(), &mut gaps);
    let hosts = work.hosts(&mut gaps);
    let drivers = drivers_there(work, payload.as_ref(), &mut gaps);
    let trace = work.trace();
    let lists = lists_there(work, &trace, &mut gaps);
    let known = Known {
        payload: meant,
        borrowed: &borrowed,
        footprint: footprint.as_ref(),
        log,
        access: &access,
        hosts: hosts.as_deref(),
        drivers: &drivers,
        lists: &lists,
    };
    let blockers = check(&work.survey, &work.registered, subject, &trace, known);
    let mut could_not_look = gaps;
    if let (Some(path), None) = (&work.case.about.payload, &payload) {
        let why = match work.installer(path) {
            Ok(_) => "it is a setup program without a package, so what it would say is not known",
            Err(_) => "the installer is not there any more, so what it would say is not known",
        };
        let why = why.to_owned();
        could_not_look.push(Gap { what: path.clone(), why });
    }
    for part in payload.iter().flat_map(|file| &file.package.not_understood) {
        let why = "this version does not evaluate it, so the prediction leaves it out".to_owned();
        could_not_look.push(Gap { what: format!("{part} in the package"), why });
    }
    Ok(Checked {
        computer: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.name.clone(),
        payload: work.case.about.payload.clone(),
        blockers,
        could_not_look,
    })
}

/// What the product's own lists of checksums say of its content; what was not compared is a gap.
fn lists_there(work: &Work, trace: &Trace, gaps: &mut Vec<Gap>) -> Vec<CheckedList> {
    let lists = work.checked_lists(trace, checked_list::SHOWN);
    for list in lists.iter().filter(|list| list.not_compared > 0) {
        let what = words::not_compared(list);
        gaps.push(Gap { what, why: "they cannot be read, or are too large to be compared".to_owned() });
    }
    lists
}

/// The largest description of a driver package.
const LARGEST_INF: u64 = 16 << 20;

/// The descriptions of driver packages that were added to the machine, where setup brings a driver.
fn drivers_there(work: &Work, payload: Option<&PackageFile>, gaps: &mut Vec<Gap>) -> Vec<Inf> {
    if payload.is_none_or(|file| file.package.infs.is_empty()) {
        return Vec::new();
    }
    let mut found = Vec::new();
    for driver in drivers(&work.survey) {
        let path = format!("{}\\INF\\{}", work.survey.facts.windows, driver.published);
        match work.machine.observe().read_file(&path, LARGEST_INF) {
            Ok(bytes) => found.extend(inf::parse(&driver.published, &bytes)),
            Err(error) => gaps.push(Gap { what: path, why: error.to_string() }),
        }
    }
    found
}
