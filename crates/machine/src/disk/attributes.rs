//! What a file has beside its content, where one file takes the place of another.

use std::collections::BTreeMap;
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
        // A file of Windows that belongs to somebody else than before would be another one.
        if std::os::unix::fs::chown(to, Some(meta.uid()), Some(meta.gid())).is_err() {
            let made = fs::symlink_metadata(to)?;
            if (made.uid(), made.gid()) != (meta.uid(), meta.gid()) {
                let why = "its owner can be kept by an administrator (root) only";
                return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
            }
        }
    }
    #[cfg(target_os = "linux")]
    for name in NTFS {
        if let Some(value) = get(from, name) {
            rustix::fs::lsetxattr(to, name, &value, rustix::fs::XattrFlags::empty())?;
        }
    }
    Ok(())
}

/// What only a reparse point has: its tag, with where it leads to or how its content is kept.
pub(super) const REPARSE: &str = "system.ntfs_reparse_data";

/// Every extended attribute of a file, by name, in hexadecimal.
#[cfg(target_os = "linux")]
pub(crate) fn all(path: &Path) -> BTreeMap<String, String> {
    let mut room = vec![0u8; 64 * 1024];
    let listed = rustix::fs::llistxattr(path, &mut room).unwrap_or(0);
    let names = room[..listed].split(|byte| *byte == 0).filter_map(|name| std::str::from_utf8(name).ok());
    let names = names.filter(|name| !name.is_empty()).chain(NTFS).chain([REPARSE]);
    let digits = |value: Vec<u8>| value.iter().map(|byte| format!("{byte:02x}")).collect();
    names.filter_map(|name| Some((name.to_owned(), digits(get(path, name)?)))).collect()
}

/// Elsewhere there are none.
#[cfg(not(target_os = "linux"))]
pub(crate) fn all(_path: &Path) -> BTreeMap<String, String> {
    BTreeMap::new()
}

/// The owner and the access list of a file or folder, as a security descriptor.
#[cfg(target_os = "linux")]
pub(super) fn access_list(path: &Path) -> Option<Vec<u8>> {
    get(path, NTFS[0])
}

/// Elsewhere the system is asked by its own interface.
#[cfg(not(target_os = "linux"))]
pub(super) fn access_list(_path: &Path) -> Option<Vec<u8>> {
    None
}

/// Gives a file or folder a security descriptor.
#[cfg(target_os = "linux")]
pub(super) fn set_access_list(path: &Path, descriptor: &[u8]) -> io::Result<()> {
    Ok(rustix::fs::lsetxattr(path, NTFS[0], descriptor, rustix::fs::XattrFlags::empty())?)
}

/// Elsewhere none was read.
#[cfg(not(target_os = "linux"))]
pub(super) fn set_access_list(_path: &Path, _descriptor: &[u8]) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Gives a file or folder permissions, owner and extended attributes again.
#[cfg(target_os = "linux")]
pub(crate) fn give(path: &Path, mode: u32, owner: (u32, u32), attributes: &BTreeMap<String, String>) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    // Another owner can only be given by root; everybody else made the file as who they are.
    let _ = std::os::unix::fs::lchown(path, Some(owner.0), Some(owner.1));
    if !fs::symlink_metadata(path)?.is_symlink() {
        // A listing may be somebody else's: no program starts with another's rights because of it.
        fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o1777))?;
    }
    let known = |name: &str| name.starts_with("user.") || name.starts_with("system.ntfs_");
    for (name, digits) in attributes.iter().filter(|(name, _)| known(name)) {
        let bytes = digits.as_bytes().chunks(2).map(|pair| {
            let pair = std::str::from_utf8(pair).unwrap_or_default();
            u8::from_str_radix(pair, 16).map_err(|_| io::Error::from(io::ErrorKind::InvalidData))
        });
        rustix::fs::lsetxattr(
            path,
            name.as_str(),
            &bytes.collect::<io::Result<Vec<u8>>>()?,
            rustix::fs::XattrFlags::empty(),
        )?;
    }
    Ok(())
}

/// Elsewhere the system gives what new files have.
#[cfg(not(target_os = "linux"))]
pub(crate) fn give(_: &Path, _: u32, _: (u32, u32), _: &BTreeMap<String, String>) -> io::Result<()> {
    Ok(())
}

/// The attribute in which the NTFS driver shows and sets the 8.3 name beside the long one.
pub(super) const SHORT_NAME: &str = "system.ntfs_dos_name";

/// The short 8.3 name of an entry, if it has one beside its own.
pub(super) fn short_name(path: &Path) -> Option<Vec<u8>> {
    get(path, SHORT_NAME).filter(|name| !name.is_empty())
}

/// Gives an entry its short name again, which the driver drops with a rename. What refuses that keeps none.
#[cfg(target_os = "linux")]
pub(super) fn set_short_name(path: &Path, name: Option<&[u8]>) {
    if let Some(name) = name {
        let _ = rustix::fs::lsetxattr(path, SHORT_NAME, name, rustix::fs::XattrFlags::empty());
    }
}

/// Elsewhere the system keeps it.
#[cfg(not(target_os = "linux"))]
pub(super) fn set_short_name(_path: &Path, _name: Option<&[u8]>) {}

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
