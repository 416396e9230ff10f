//! Restarting the bench: what was asked for is moved, then what starts by itself runs.

use stubble_core::model::path::{leaf, parent};
use stubble_core::model::text::fold;
use stubble_core::survey::Survey;

use super::Bench;
use super::running::State;
use crate::durable::{self, Op, operate};
use crate::{MachineError, Observe};

/// How long a restart takes, in units of 100 ns.
const TAKES: u64 = 90 * 10_000_000;
const CURRENT: &str = "Microsoft\\Windows\\CurrentVersion";
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
        let moves = self.disk.requested_moves(&edit)?;
        if moves.is_empty() {
            return Ok(());
        }
        for one in &moves {
            let Ok(Some(from)) = self.disk.locate(&one.from) else { continue };
            let folder = parent(&one.to).and_then(|folder| self.disk.locate(folder).ok().flatten());
            let (Some(folder), None) = (folder, self.disk.locate(&one.to).ok().flatten()) else { continue };
            let to = folder.join(leaf(&one.to));
            let op = || Op::Rename(from.clone(), to.clone());
            if operate(op, || std::fs::rename(&from, &to)).is_ok() {
                durable::sync_folder(&folder).map_err(MachineError::io(one.to.as_str()))?;
            }
        }
        self.disk.write_moves(&mut edit, None)?;
        edit.commit()
    }
}

/// Programs that a `Run` key names, and services that start with the system.
fn start_all(state: &mut State, survey: &Survey) {
    let lines = commands_at_sign_in(survey);
    for process in &mut state.processes {
        let image = fold(&process.image);
        process.running = survey.files.find(&process.image).is_some() && lines.iter().any(|line| line.contains(&image));
    }
    for service in &mut state.services {
        let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), service.name));
        let start = key.and_then(|key| survey.registry.value(key, "Start")).and_then(|value| value.dword());
        let there = service.image.as_ref().is_none_or(|image| survey.files.find(image).is_some());
        service.running = there && start == Some(AUTOMATIC);
    }
}

fn commands_at_sign_in(survey: &Survey) -> Vec<String> {
    let machine = survey.facts.software_views().into_iter().map(|top| {
        let switches = if top.contains("WOW6432Node") { "Run32" } else { "Run" };
        (top.to_owned(), "HKLM\\SOFTWARE".to_owned(), switches)
    });
    let users = survey.facts.users.iter().map(|user| {
        let top = format!("{}\\Software", user.hive());
        (top.clone(), top, "Run")
    });
    let mut lines = Vec::new();
    for (top, switch_top, switches) in machine.chain(users) {
        let Some(run) = survey.registry.key(&format!("{top}\\{CURRENT}\\Run")) else { continue };
        let switches = survey.registry.key(&format!("{switch_top}\\{CURRENT}\\Explorer\\StartupApproved\\{switches}"));
        // The first byte is odd where an entry is switched off.
        let is_off = |name: &str| {
            let switch = switches.and_then(|key| survey.registry.value(key, name));
            switch.and_then(|value| value.data.first().copied()).is_some_and(|first| first & 1 == 1)
        };
        let values = survey.registry.values(run).filter(|value| !is_off(value.name));
        lines.extend(values.filter_map(|value| value.text()).map(|line| fold(&line)));
    }
    lines
}
