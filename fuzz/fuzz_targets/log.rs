//! Any bytes as an installer's log.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::logs::{LogKind, context, diagnose};

fuzz_target!(|bytes: &[u8]| {
    let Ok(log) = diagnose(bytes) else { return };
    // Those have a target of their own: their lines are numbers of events.
    if log.kind == LogKind::Events {
        return;
    }
    let lines = |run: &stubble_core::logs::Run| run.first_line <= log.lines && run.last_line <= log.lines;
    assert!(log.runs.iter().all(lines));
    for run in &log.runs {
        assert!(run.whose.files.iter().all(|path| path.contains(":\\")));
        assert!(run.also.len() < 64 && run.decided.len() < 64 && run.codes.len() < 64);
        for said in run.message.iter().chain(&run.failed) {
            assert!(context(bytes, said.line, 2).unwrap().iter().any(|one| one.line == said.line));
        }
    }
});
