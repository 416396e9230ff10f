//! Restarting the bench: what was asked for is moved, then what starts by itself runs.

use stubble_core::loans::safe_services;
use stubble_core::model::path::{leaf, parent};
use stubble_core::model::text::fold;
use stubble_core::survey::Survey;

use super::Bench;
use super::running::State;
use crate::durable::{self, Op, operate};
use crate::edits::Edits;
use crate::{MachineError, Observe};

/// How long a restart takes, in units of 100 ns.
const TAKES: u64 = 90 * 10_000_000;
/// `Start` of a service that starts with the system.
const AUTOMATIC: u32 = 2;

impl Bench {
    /// Ends everything, moves what was asked for, and starts what starts by itself.
    pub(super) fn start_anew(&self) -> Result<(), MachineError> {
        let mut state = self.state()?;
        state.now.0 += TAKES;
        state.restart_pending.clear();
        for process in &mut state.processes {
            process.running = false;
        }
        for service in &mut state.services {
            service.running = false;
        }
        self.set_state(&state)?;
        self.move_what_was_asked_for()?;
        let survey = self.survey()?;
        start_all(&mut state, &survey);
        self.set_state(&state)
    }

    /// As the session manager does it: in order, and one that fails is passed over.
    fn move_what_was_asked_for(&self) -> Result<(), MachineError> {
        let mut edit = self.edit()?;
        let manager = self.disk.session_manager();
        let Ok(moves) = edit.requested_moves(&manager) else { return Ok(()) };
        if moves.is_empty() {
            return Ok(());
        }
        for one in &moves {
            let Ok(Some(from)) = self.disk.locate(one.source()) else { continue };
            if one.target().is_empty() {
                let _ = durable::remove_file(&from);
                continue;
            }
            let folder = parent(one.target()).and_then(|folder| self.disk.locate(folder).ok().flatten());
            let (Some(folder), None) = (folder, self.disk.locate(one.target()).ok().flatten()) else { continue };
            let to = folder.join(leaf(one.target()));
            let op = || Op::Rename(from.clone(), to.clone());
            if operate(op, || std::fs::rename(&from, &to)).is_ok() {
                durable::sync_folder(&folder).map_err(MachineError::io(one.target()))?;
            }
        }
        edit.write_moves(&manager, None)?;
        edit.commit()
    }
}

/// Programs that a `Run` key names, and services that start with the system. In safe mode no program starts by itself,
/// and only the services that are listed for it do.
fn start_all(state: &mut State, survey: &Survey) {
    let safe = safe_services(survey);
    let entries = survey.startup_entries().into_iter().filter(|entry| !entry.is_off && safe.is_none());
    let lines: Vec<String> = entries.map(|entry| fold(&entry.command)).collect();
    for process in &mut state.processes {
        let image = fold(&process.image);
        process.running = survey.files.find(&process.image).is_some() && lines.iter().any(|line| line.contains(&image));
    }
    for service in &mut state.services {
        let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), service.name));
        let start = key.and_then(|key| survey.registry.value(key, "Start")).and_then(|value| value.dword());
        let there = service.image.as_ref().is_none_or(|image| survey.files.find(image).is_some());
        let is_listed = |list: &String| survey.registry.key(&format!("{list}\\{}", service.name)).is_some();
        let may_start = safe.as_ref().is_none_or(is_listed);
        service.running = there && start == Some(AUTOMATIC) && may_start;
    }
}
