//! What a file has beside its content, where one file takes the place of another.

use std::fs;
use std::io;
use std::path::Path;

/// Extended attributes through which the NTFS driver shows and sets what Windows keeps: access
/// list, attributes, time of creation, object id.
#[cfg(target_os = "linux")]
const NTFS: [&str; 4] = ["system.ntfs_acl", "system.ntfs_attrib", "system.ntfs_crtime", "system.ntfs_object_id"];

/// Gives `to` the permissions, the owner and the extended attributes of `from`, as far as the
/// file system has them.
pub(super) fn copy(from: &Path, to: &Path) -> io::Result<()> {
    let meta = fs::symlink_metadata(from)?;
    fs::set_permissions(to, meta.permissions())?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        // Another owner can only be given by root; everybody else made the file as who they are.
        let _ = std::os::unix::fs::chown(to, Some(meta.uid()), Some(meta.gid()));
    }
    #[cfg(target_os = "linux")]
    for name in NTFS {
        if let Some(value) = get(from, name) {
            rustix::fs::lsetxattr(to, name, &value, rustix::fs::XattrFlags::empty())?;
        }
    }
    Ok(())
}

/// One extended attribute of a file, itself where it is a link; `None` where it has none.
#[cfg(target_os = "linux")]
pub(super) fn get(path: &Path, name: &str) -> Option<Vec<u8>> {
    let mut room = vec![0u8; 64 * 1024];
    let len = rustix::fs::lgetxattr(path, name, &mut room).ok()?;
    room.truncate(len);
    Some(room)
}

/// Elsewhere there are none.
#[cfg(not(target_os = "linux"))]
pub(super) fn get(_path: &Path, _name: &str) -> Option<Vec<u8>> {
    None
}
