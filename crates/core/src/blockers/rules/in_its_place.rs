use std::collections::BTreeSet;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, path};
use crate::packages::layout::Layout;
use crate::survey::EntryKind;

/// Where setup means to write there is something that it cannot write through: a file in place of a folder, a
/// folder in place of a file, or a link that leads elsewhere.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let survey = situation.survey;
    let layout = Layout::on(package, survey, situation.registered);
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    let mut add = |at: &str, severity, title: String, advice: &str| {
        if seen.insert(at.to_owned()) {
            let evidence = vec![format!("setup of {} writes there", package.name)];
            found.push(blocker("in-its-place", severity, title, Some(Place::file(at)), evidence, advice.to_owned()));
        }
    };
    for file in package.files.iter().filter_map(|file| layout.file(&file.id)) {
        if let Some(entry) = survey.files.find(file)
            && survey.files.data(entry).kind == EntryKind::Folder
        {
            let title = format!("{file} is a folder, and setup means to write a file of that name");
            add(file, Severity::WillFail, title, "Move the folder away first (error 1301).");
        }
        let mut above = path::parent(file);
        while let Some(folder) = above.filter(|folder| folder.len() > 3) {
            if let Some(entry) = survey.files.find(folder) {
                match survey.files.data(entry).kind {
                    EntryKind::File => {
                        let title = format!("{folder} is a file, and setup needs a folder of that name");
                        add(folder, Severity::WillFail, title, "Move the file away first (error 1304 or 1317).");
                    }
                    EntryKind::Link => {
                        let title = format!("{folder} is a link: what setup writes there ends up somewhere else");
                        add(
                            folder,
                            Severity::MayFail,
                            title,
                            "See where it leads, and whether that is there and meant.",
                        );
                    }
                    EntryKind::Folder => {}
                }
            }
            above = path::parent(folder);
        }
    }
    found
}
