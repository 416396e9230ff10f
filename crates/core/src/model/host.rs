//! Programs of Windows that run what their arguments name.

use super::path::leaf;
use super::text::fold;

/// Programs of Windows that run what their arguments name.
const HOSTS: [&str; 9] = [
    "RUNDLL32.EXE",
    "REGSVR32.EXE",
    "CMD.EXE",
    "WSCRIPT.EXE",
    "CSCRIPT.EXE",
    "POWERSHELL.EXE",
    "MSHTA.EXE",
    "EXPLORER.EXE",
    "DLLHOST.EXE",
];

/// Whether a program is one of Windows that runs what its arguments name.
pub fn is_host(program: &str) -> bool {
    HOSTS.contains(&fold(leaf(program)).as_str())
}

/// Paths among the arguments of a command line: what stands in quotes, and what begins with a drive and
/// goes up to the end of a file's name.
pub fn arguments(command: &str) -> Vec<String> {
    const ENDS: [&str; 12] =
        [".DLL", ".EXE", ".CPL", ".OCX", ".VBS", ".JS", ".PS1", ".BAT", ".CMD", ".MSC", ".WSF", ".HTA"];
    let mut found = Vec::new();
    for (number, part) in command.split('"').enumerate() {
        if number % 2 == 1 {
            found.push(part.to_owned());
            continue;
        }
        let Some(start) = part.find(":\\").and_then(|colon| colon.checked_sub(1)) else { continue };
        let Some(path) = part.get(start..) else { continue };
        let folded = path.to_ascii_uppercase();
        let end = ENDS.iter().filter_map(|end| folded.find(end).map(|at| at + end.len())).min();
        found.extend(end.and_then(|end| path.get(..end)).map(str::to_owned));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_host_names_what_it_runs_in_its_arguments() {
        let quoted = "rundll32.exe \"C:\\Program Files\\Scale Desk Studio\\core.dll\",Serve";
        assert_eq!(arguments(quoted), ["C:\\Program Files\\Scale Desk Studio\\core.dll"]);
        let bare = "regsvr32 /s C:\\Program Files\\Scale Desk\\core.dll /i";
        assert_eq!(arguments(bare), ["C:\\Program Files\\Scale Desk\\core.dll"]);
        assert!(arguments("rundll32 shell32.dll,Control_RunDLL").is_empty());
    }
}
