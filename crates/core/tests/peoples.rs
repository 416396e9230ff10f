//! What is a person's and what setup wrote, where both lie in one folder or key.

use stubble_core::model::Place;
use stubble_core::trace::Decision;

use super::pc::{DESK, UNINSTALL, desk, traced};

#[test]
fn a_users_key_that_only_says_where_it_is_installed_is_no_settings() {
    let key = format!("HKU\\{}\\SOFTWARE\\Fennelgate\\Scale Desk", super::pc::MAREN);
    let of = |values: &[(&str, &str)]| {
        let mut pc = desk();
        pc.file(&format!("{DESK}\\desk.exe")).key(&key, values);
        let trace = traced(&pc, "scale desk");
        let found = trace.remnants.iter().filter(|one| one.place.path == key || key.starts_with(&one.place.path));
        let mut found: Vec<(String, Decision)> = found
            .filter(|one| one.place.path.starts_with("HKU"))
            .map(|one| (one.place.to_string(), one.decision))
            .collect();
        found.sort();
        found
    };
    let install = [("InstallPath", DESK), ("Version", "5.1.2")];
    let alone = of(&install);
    assert!(alone.len() == 1 && alone[0].1 == Decision::Remove, "{alone:?}");
    let both = of(&[install[0], ("Window", "0,0,800,600")]);
    let value = (format!("{key} : InstallPath"), Decision::Remove);
    assert_eq!(both, [(key.clone(), Decision::Keep), value]);
    // What leads to the user's own is a setting, and so is what leads nowhere.
    let settings = of(&[("DataDir", "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\Scale Desk"), ("Version", "5")]);
    assert_eq!(settings, [(key.clone(), Decision::Keep)]);
}

/// Setup was run again since: what a person made before is from no install that is known.
#[test]
fn what_was_made_before_setup_ran_again_stays_among_data() {
    let (before, install) = (133_000_000_000_000_000, 133_900_000_000_000_000);
    let data = "C:\\ProgramData\\Fennelgate\\Scale Desk";
    for (name, time, decision) in [
        ("projects\\spring.docx", before, Decision::Keep),
        ("projects\\spring.wqx", before, Decision::Ask),
        ("projects\\sample.docx", install, Decision::Remove),
        ("cache\\index.bin", before, Decision::Remove),
        ("content\\pack1.pak", before, Decision::Remove),
    ] {
        let mut pc = desk();
        let path = format!("{data}\\{name}");
        pc.dated(&format!("{DESK}\\desk.exe"), install).written(&format!("{UNINSTALL}\\desk"), install);
        pc.folder(data).dated(&path, time);
        let trace = traced(&pc, "scale desk");
        let over = trace.remnants.iter().filter(|one| Place::file(&path).is_within(&one.place));
        let found = over.max_by_key(|one| one.place.path.len()).map(|one| one.decision);
        assert_eq!(found, Some(decision), "{name}");
    }
}
