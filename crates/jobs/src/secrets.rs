//! Secrets that are kept: in the system's keyring where there is one, otherwise in a file that only its owner may read.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;

use reedhook_stores::remote::connect::Secret;
use serde::{Deserialize, Serialize};

use crate::failure::{Failure, Outcome};
use crate::home::Home;

/// Where a secret was put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// In the system's keyring.
    Keyring,
    /// In Reedhook's own file.
    File,
}

#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SecretsFile {
    #[serde(default)]
    secrets: BTreeMap<String, String>,
}

/// The system's keyring. With a home of its own (`--home`) the tool may live on a stick: then its secrets travel along, in its file.
#[cfg(feature = "keyring")]
mod ring {
    use super::Home;

    fn entry(home: &Home, name: &str) -> Option<keyring::Entry> {
        if home.is_portable() { None } else { keyring::Entry::new("reedhook", name).ok() }
    }

    pub fn find(home: &Home, name: &str) -> Option<String> {
        entry(home, name)?.get_password().ok()
    }

    pub fn keep(home: &Home, name: &str, secret: &str) -> bool {
        entry(home, name).is_some_and(|entry| entry.set_password(secret).is_ok())
    }

    pub fn forget(home: &Home, name: &str) -> bool {
        entry(home, name).is_some_and(|entry| entry.delete_credential().is_ok())
    }
}

/// A program that was built without a keyring keeps nothing there.
#[cfg(not(feature = "keyring"))]
mod ring {
    use super::Home;

    pub fn find(_home: &Home, _name: &str) -> Option<String> {
        None
    }

    pub fn keep(_home: &Home, _name: &str, _secret: &str) -> bool {
        false
    }

    pub fn forget(_home: &Home, _name: &str) -> bool {
        false
    }
}

/// Looks a secret up; errors are sentences.
pub fn find(home: &Home, name: &str) -> Result<Option<Secret>, String> {
    if let Some(kept) = read_file(home)?.secrets.remove(name) {
        return Ok(Some(Secret::new(kept)));
    }
    Ok(ring::find(home, name).map(Secret::new))
}

/// Keeps a secret.
pub fn keep(home: &Home, name: &str, secret: &Secret) -> Outcome<Kept> {
    if ring::keep(home, name, secret.reveal()) {
        return Ok(Kept::Keyring);
    }
    let mut file = read_file(home).map_err(Failure::usage)?;
    file.secrets.insert(name.to_owned(), secret.reveal().to_owned());
    write_file(home, &file)?;
    Ok(Kept::File)
}

/// Forgets a secret; whether there was one.
pub fn forget(home: &Home, name: &str) -> Outcome<bool> {
    let in_keyring = ring::forget(home, name);
    let mut file = read_file(home).map_err(Failure::usage)?;
    let in_file = file.secrets.remove(name).is_some();
    if in_file {
        write_file(home, &file)?;
    }
    Ok(in_keyring || in_file)
}

fn read_file(home: &Home) -> Result<SecretsFile, String> {
    let path = home.secrets_file();
    let meta = match fs::metadata(&path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(SecretsFile::default()),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    if meta.permissions().mode() & 0o077 != 0 {
        return Err(format!("{0} can be read by others; close it with: chmod 600 {0}", path.display()));
    }
    let text = fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    // Its text is not repeated: there are secrets in it.
    toml::from_str(&text).map_err(|_| format!("{} cannot be read as TOML", path.display()))
}

fn write_file(home: &Home, file: &SecretsFile) -> Outcome<()> {
    let text =
        toml::to_string(file).map_err(|error| Failure::own_files("the secret cannot be kept", error))?;
    crate::home::write_file(&home.secrets_file(), &text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_file_is_its_owners_alone_and_refused_when_it_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::find(Some(folder.path()), &crate::desk::World::plain()).unwrap();
        assert_eq!(keep(&home, "archive", &Secret::new("marsh tit")).unwrap(), Kept::File);
        let mode = fs::metadata(home.secrets_file()).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        assert_eq!(find(&home, "archive").unwrap().unwrap().reveal(), "marsh tit");
        assert_eq!(find(&home, "other").unwrap(), None);
        fs::set_permissions(home.secrets_file(), fs::Permissions::from_mode(0o640)).unwrap();
        assert!(find(&home, "archive").unwrap_err().contains("chmod 600"));
        fs::set_permissions(home.secrets_file(), fs::Permissions::from_mode(0o600)).unwrap();
        assert!(forget(&home, "archive").unwrap() && !forget(&home, "archive").unwrap());
        assert_eq!(find(&home, "archive").unwrap(), None);
    }
}
