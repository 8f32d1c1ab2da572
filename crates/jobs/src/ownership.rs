//! Whose files Reedhook obeys. Jobs and settings name commands, folders and servers; whoever can write them, or a folder that they lie
//! in, could have another account's run do what they like. So they are looked at as ssh looks at its own files.

use std::fs::{self, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use reedhook_stores::local::keeps_modes;

use crate::failure::{Cause, Failure, Outcome};

/// Fails unless a file of Reedhook's own, and every folder that it lies in, can be written by its owner alone, who is this account or
/// root. What is not there yet is judged by the folders that are. A file system without modes (a stick) is judged by the folders above
/// it: who has the stick has what is on it. What lies above the account's own home folder is the system's matter.
///
/// # Errors
/// A sentence about the file or folder that others can write to.
pub fn check(path: &Path, home: Option<&Path>) -> Outcome<()> {
    let us = rustix::process::geteuid().as_raw();
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    // A link says as much as what it leads to.
    let real = fs::canonicalize(&path).ok().filter(|real| *real != path);
    for start in [Some(path), real].into_iter().flatten() {
        let mut modeless = None;
        for at in start.ancestors() {
            let Ok(found) = fs::symlink_metadata(at) else { continue };
            if modeless == Some(found.dev()) {
                continue;
            }
            if let Some(why) = objection(&found, us) {
                if found.file_type().is_symlink() || keeps_modes(folder_of(at, &found)) {
                    return Err(refused(at, &found, why));
                }
                modeless = Some(found.dev());
            }
            if home == Some(at) {
                break;
            }
        }
    }
    Ok(())
}

/// Whether Reedhook's own files are in a place that keeps no modes.
pub fn is_modeless(folder: &Path) -> bool {
    folder.is_dir() && !keeps_modes(folder)
}

fn folder_of<'a>(at: &'a Path, found: &Metadata) -> &'a Path {
    if found.is_dir() { at } else { at.parent().unwrap_or(at) }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Objection {
    Owner,
    Writable,
}

/// What speaks against obeying a file, or what is in a folder.
fn objection(found: &Metadata, us: u32) -> Option<Objection> {
    if found.uid() != us && found.uid() != 0 {
        return Some(Objection::Owner);
    }
    let link = found.file_type().is_symlink();
    // In a sticky folder, such as /tmp, nobody can take another's place.
    let sticky = found.is_dir() && found.mode() & 0o1000 != 0;
    // A group that is the account's alone, as many systems make one for each person.
    let own_group = found.gid() == found.uid();
    let others = if own_group { 0o002 } else { 0o022 };
    (!link && !sticky && found.mode() & others != 0).then_some(Objection::Writable)
}

fn refused(at: &Path, found: &Metadata, why: Objection) -> Failure {
    let shown: PathBuf = at.to_owned();
    let (message, hint) = match why {
        Objection::Owner => (
            format!(
                "{} belongs to another account (number {}); its files are not obeyed",
                shown.display(),
                found.uid()
            ),
            "Run this as that account, or use files of your own: sudo -H, or --home DIR.".to_owned(),
        ),
        Objection::Writable => (
            format!(
                "others can write to {} (mode {:03o}); what is in it is not obeyed",
                shown.display(),
                found.mode() & 0o777
            ),
            format!("Close it: chmod go-w {}", shown.display()),
        ),
    };
    Failure { cause: Cause::OthersCanWrite, ..Failure::usage(message) }.hint(hint)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, chown, symlink};

    use super::*;

    #[test]
    fn only_what_its_owner_alone_can_write_is_obeyed() {
        let folder = tempfile::tempdir().unwrap();
        let jobs = folder.path().join("home/jobs");
        fs::create_dir_all(&jobs).unwrap();
        let job = jobs.join("counts.toml");
        fs::write(&job, "").unwrap();
        let mode =
            |path: &Path, mode: u32| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        mode(&jobs, 0o755);
        mode(&job, 0o644);
        mode(&folder.path().join("home"), 0o755);
        assert!(check(&job, None).is_ok() && check(&jobs.join("not there/yet"), None).is_ok());
        for (path, bad, good) in
            [(&job, 0o646, 0o644), (&jobs, 0o757, 0o755), (&folder.path().join("home"), 0o777, 0o755)]
        {
            mode(path, bad);
            let failure = check(&job, None).unwrap_err();
            assert!(failure.hint.contains(&path.display().to_string()), "{failure}");
            mode(path, good);
        }
        mode(&jobs, 0o1777);
        assert!(check(&job, None).is_ok(), "nobody can take another's place there");
        mode(&jobs, 0o755);
        if rustix::process::geteuid().is_root() {
            chown(&job, Some(65_534), None).unwrap();
            assert!(check(&job, None).unwrap_err().message.contains("65534"));
            chown(&job, Some(0), None).unwrap();
            let outside = tempfile::tempdir().unwrap();
            fs::write(outside.path().join("theirs"), "").unwrap();
            chown(outside.path().join("theirs"), Some(65_534), None).unwrap();
            symlink(outside.path().join("theirs"), jobs.join("link.toml")).unwrap();
            assert!(check(&jobs.join("link.toml"), None).is_err(), "a link leads to what is not obeyed");
        }
    }
}
