//! File systems that are mounted inside a folder: they are no part of the drive, and nothing is removed with them in it.

use std::path::{Path, PathBuf};

/// A path at or below `folder` at which another file system is mounted, by proc_pid_mountinfo(5); `None` if there is
/// none or the system does not say.
#[cfg(target_os = "linux")]
pub(super) fn below(folder: &Path) -> Option<PathBuf> {
    let folder = std::fs::canonicalize(folder).ok()?;
    let table = std::fs::read_to_string("/proc/self/mountinfo").ok()?;
    let mut points = table.lines().filter_map(|line| Some(PathBuf::from(unescaped(line.split(' ').nth(4)?))));
    points.find(|point| point.starts_with(&folder))
}

/// On Windows a mounted volume is a reparse point, which is moved as the link that it is.
#[cfg(not(target_os = "linux"))]
pub(super) fn below(_folder: &Path) -> Option<PathBuf> {
    None
}

/// Blanks and backslashes are written as three octal digits.
#[cfg(target_os = "linux")]
fn unescaped(text: &str) -> std::ffi::OsString {
    use std::os::unix::ffi::OsStringExt;
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((first, more)) = rest.split_first() {
        let digits = more.get(..3).and_then(|digits| std::str::from_utf8(digits).ok());
        let byte = digits.filter(|_| *first == b'\\').and_then(|digits| u8::from_str_radix(digits, 8).ok());
        bytes.push(byte.unwrap_or(*first));
        rest = if byte.is_some() { &more[3..] } else { more };
    }
    std::ffi::OsString::from_vec(bytes)
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;

    #[test]
    fn names_with_blanks_are_read() {
        assert_eq!(unescaped("/mnt/a\\040b\\134c"), "/mnt/a b\\c");
        assert_eq!(unescaped("/plain\\"), "/plain\\");
        assert_eq!(below(Path::new("/proc")), Some("/proc".into()));
    }
}
