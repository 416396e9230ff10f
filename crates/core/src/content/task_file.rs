//! The file of a scheduled task: what it runs. XML after Microsoft's published task schema, in
//! UTF-16 or UTF-8.

use serde::{Deserialize, Serialize};

use crate::model::text::{from_file, from_utf16_bytes};

/// What a task does.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TaskFile {
    /// Who wrote it, in its own words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub author: String,
    /// Command lines that it runs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<String>,
    /// Classes that it calls, by their identifiers as written.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub classes: Vec<String>,
}

/// Reads the file of a task; `None` where it is none.
pub fn parse(bytes: &[u8]) -> Option<TaskFile> {
    let text = match bytes {
        [_, 0, ..] => from_utf16_bytes(bytes),
        _ => from_file(bytes),
    };
    // The declaration names the encoding that the text no longer has.
    let start = text.trim_start();
    let body = start.strip_prefix("<?xml").and_then(|rest| rest.split_once("?>")).map_or(start, |(_, body)| body);
    let document = roxmltree::Document::parse(body.trim_matches(['\0', '\u{feff}'])).ok()?;
    let root = document.root_element();
    if root.tag_name().name() != "Task" {
        return None;
    }
    let text_of = |node: roxmltree::Node<'_, '_>, name: &str| {
        let mut children = node.children().filter(|child| child.tag_name().name() == name);
        children.next().and_then(|child| child.text()).unwrap_or_default().trim().to_owned()
    };
    let named = |name: &'static str| root.descendants().filter(move |node| node.tag_name().name() == name);
    let mut task = TaskFile::default();
    if let Some(about) = named("RegistrationInfo").next() {
        task.author = text_of(about, "Author");
    }
    for run in named("Exec") {
        let (command, arguments) = (text_of(run, "Command"), text_of(run, "Arguments"));
        let quoted =
            if command.contains(' ') && !command.starts_with('"') { format!("\"{command}\"") } else { command };
        task.commands.push(format!("{quoted} {arguments}").trim().to_owned());
    }
    task.classes = named("ComHandler").map(|call| text_of(call, "ClassId")).collect();
    Some(task)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::text::to_utf16_bytes;

    const TASK: &str = r#"<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo><Author>Fennelgate Instruments</Author></RegistrationInfo>
  <Actions Context="Author">
    <Exec><Command>C:\Program Files\Fennelgate\update.exe</Command><Arguments>/quiet</Arguments></Exec>
    <ComHandler><ClassId>{0B1C2D3E-4F50-6172-8394-A5B6C7D8E9F0}</ClassId></ComHandler>
  </Actions>
</Task>"#;

    #[test]
    fn a_task_tells_what_it_runs_in_either_encoding() {
        let wide: Vec<u8> = [0xFF, 0xFE].into_iter().chain(to_utf16_bytes(TASK)).collect();
        for bytes in [TASK.as_bytes(), &wide] {
            let task = parse(bytes).unwrap();
            assert_eq!(task.commands, ["\"C:\\Program Files\\Fennelgate\\update.exe\" /quiet"]);
            assert_eq!((task.author.as_str(), task.classes.len()), ("Fennelgate Instruments", 1));
        }
    }

    #[test]
    fn what_is_no_task_is_none() {
        for bytes in [b"".as_slice(), b"<Task", b"<Other/>", &[0xFF, 0xFE, 0x3C], b"\0\0\0\0"] {
            assert_eq!(parse(bytes), None);
        }
    }
}
