//! Any text as a plan: it is refused, or it names nothing outside the machine and nothing protected.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::model::FileTime;
use stubble_core::plan::from_toml;
use stubble_core::survey::{Entry, EntryKind, Facts, RegistryBuilder, Running, Survey, TreeBuilder};

fuzz_target!(|text: &str| {
    let Ok(plan) = from_toml(text, &machine()) else { return };
    for place in plan.chosen().flat_map(|step| step.places()).filter(|place| place.kind.is_on_disk()) {
        assert!(!place.path.split('\\').any(|part| part == ".."), "{place}");
        assert!(!place.path.to_ascii_lowercase().starts_with("c:\\windows\\system32"), "{place}");
    }
});

fn machine() -> Survey {
    let root = Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) };
    let facts = Facts {
        computer: "WEIGH-03".into(),
        windows: "C:\\Windows".into(),
        program_files: "C:\\Program Files".into(),
        program_data: "C:\\ProgramData".into(),
        control_set: "ControlSet001".into(),
        ..Facts::default()
    };
    Survey {
        facts,
        files: TreeBuilder::new(root).finish(),
        registry: RegistryBuilder::default().finish(),
        running: Running::default(),
        shortcuts: Vec::new(),
        contents: Vec::new(),
        short_names: Vec::new(),
        gaps: Vec::new(),
    }
}
