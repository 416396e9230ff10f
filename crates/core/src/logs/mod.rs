//! Installer logs: what failed, and what made it fail.

pub mod exit_codes;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Guid, text};

/// What a package installer's log says of a failure. Line numbers count from one.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Story {
    /// The exit code that the log ends with.
    pub code: Option<u32>,
    /// The first action that failed, with its line.
    pub failed_action: Option<(usize, String)>,
    /// What setup said to the person, with its line.
    pub message: Option<(usize, String)>,
    /// Properties that were set before the failure: line, name, value.
    pub set: Vec<(usize, String, String)>,
    /// Number of lines.
    pub lines: usize,
}

/// The log's text: UTF-16 with a mark, or UTF-8 where wrong bytes are replaced.
pub fn decode(bytes: &[u8]) -> String {
    match bytes {
        [0xFF, 0xFE, rest @ ..] => text::from_utf16_bytes(rest),
        [0xEF, 0xBB, 0xBF, rest @ ..] => String::from_utf8_lossy(rest).into_owned(),
        _ => String::from_utf8_lossy(bytes).into_owned(),
    }
}

/// Reads a log of the package installer.
pub fn read(log: &str) -> Story {
    let mut story = Story::default();
    for (number, line) in log.lines().enumerate().map(|(at, line)| (at + 1, line.trim_end())) {
        story.lines = number;
        if let Some((_, rest)) = line.split_once("MainEngineThread is returning ") {
            story.code = rest.trim().parse().ok();
        } else if let Some((_, rest)) = line.split_once("PROPERTY CHANGE: Adding ") {
            if let Some((name, value)) = rest.split_once(" property. Its value is '")
                && story.failed_action.is_none()
            {
                story.set.push((number, name.to_owned(), value.trim_end_matches(['.', '\'']).to_owned()));
            }
        } else if let Some(rest) = line.strip_prefix("Action ended ") {
            if let Some((head, value)) = rest.split_once(". Return value ")
                && value.trim_end_matches('.') == "3"
                && story.failed_action.is_none()
            {
                let name = head.split_once(": ").map_or(head, |(_, name)| name);
                story.failed_action = Some((number, name.to_owned()));
            }
        } else if story.message.is_none()
            && let Some(rest) = line.split_once("Product: ").map(|(_, rest)| rest)
            && let Some((_, message)) = rest.split_once(" -- ")
        {
            story.message = Some((number, message.to_owned()));
        }
    }
    story
}

/// What a log tells of the product that was set up, whatever became of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Leads {
    /// The product's name.
    pub name: Option<String>,
    /// Its product code.
    pub product_code: Option<Guid>,
    /// Its upgrade code.
    pub upgrade_code: Option<Guid>,
    /// Files that setup wrote or meant to write.
    pub files: Vec<String>,
}

/// Reads a log of the package installer for what identifies its product.
pub fn leads(log: &str) -> Leads {
    let mut leads = Leads::default();
    for line in log.lines().map(str::trim_end) {
        if let Some((_, property)) = line.split_once("Property(").and_then(|(_, rest)| rest.split_once("): "))
            && let Some((name, value)) = property.split_once(" = ")
        {
            match name {
                "ProductName" => leads.name = Some(value.to_owned()),
                "ProductCode" => leads.product_code = value.parse().ok(),
                "UpgradeCode" => leads.upgrade_code = value.parse().ok(),
                _ => {}
            }
        } else if let Some((_, rest)) = line.split_once("File: ") {
            let mut parts = rest.split(';');
            let (path, what) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
            if what.trim() == "To be installed" {
                leads.files.push(path.to_owned());
            }
        } else if let Some((_, rest)) = line.split_once("InstallFiles: ")
            && let Some((path, _)) = rest.rsplit_once(", ")
        {
            leads.files.push(path.to_owned());
        }
    }
    leads.files.retain(|path| path.contains(":\\"));
    leads.files.sort();
    leads.files.dedup();
    leads
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_failure_and_what_was_set_before_it() {
        let log = "=== Logging started ===\n\
            MSI (s) (10:20) [06:40:00:000]: PROPERTY CHANGE: Adding WEIGH3FOUND property. Its value is '{3}'.\n\
            Product: Quernlight Scale Desk -- Remove it first.\n\
            Action ended 06:40:00: LaunchConditions. Return value 3.\n\
            Action ended 06:40:00: INSTALL. Return value 3.\n\
            MSI (c) (10:20) [06:40:00:000]: MainEngineThread is returning 1603\n";
        let mut utf16 = vec![0xFF, 0xFE];
        utf16.extend(text::to_utf16_bytes(log));
        let story = read(&decode(&utf16));
        assert_eq!(story.code, Some(1603));
        assert_eq!(story.failed_action, Some((4, "LaunchConditions".into())));
        assert_eq!(story.message, Some((3, "Remove it first.".into())));
        assert_eq!(story.set, [(2, "WEIGH3FOUND".to_owned(), "{3}".to_owned())]);
    }

    #[test]
    fn a_log_names_its_product_and_what_it_wrote() {
        let log = "MSI (s) (10:20) [06:40:00:000]: File: C:\\Program Files\\Desk\\a.dll;  To be installed;  No patch;\n\
            MSI (s) (10:20) [06:40:00:000]: File: C:\\Windows\\b.dll;  Won't Overwrite;  No patch;\n\
            Property(S): ProductName = Scale Desk\n\
            Property(S): ProductCode = {3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}\n";
        let leads = leads(log);
        assert_eq!(leads.name.as_deref(), Some("Scale Desk"));
        assert!(leads.product_code.is_some() && leads.upgrade_code.is_none());
        assert_eq!(leads.files, ["C:\\Program Files\\Desk\\a.dll"]);
    }
}
