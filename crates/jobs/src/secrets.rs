//! Secrets that are kept: in the system's keyring where there is one, otherwise in a file that only its owner may read, and where no
//! file can be closed to others (a stick), in one that is sealed with a passphrase (age v1 with an scrypt recipient).

use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use age::secrecy::SecretString;
use reedhook_stores::remote::connect::Secret;

use crate::asking::SecretsFile;
use crate::depth;
use crate::desk::Desk;
use crate::failure::{Failure, Outcome};
use crate::home::{Home, closed, make_folder};

/// Where a secret was put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// In the system's keyring.
    Keyring,
    /// In Reedhook's own file.
    File,
    /// In Reedhook's own file, sealed with a passphrase.
    Sealed,
}

/// The variable that the passphrase may be in.
const PASSPHRASE_VARIABLE: &str = "REEDHOOK_PASSPHRASE";

/// What scrypt costs: two to this power, about a second and 256 MiB at 18. A guess costs as much.
const WORK: u8 = 16;

/// The system's keyring. With a home of its own (`--home`) the tool may live on a stick: then its secrets travel along, in its file.
#[cfg(feature = "keyring")]
mod ring {
    use super::Home;

    /// The entry of a name; none where the system has no keyring, or this home none of its.
    fn entry(home: &Home, name: &str) -> Result<Option<keyring::Entry>, String> {
        if home.is_portable() {
            return Ok(None);
        }
        match (keyring::Entry::new("reedhook", name), keyring::Entry::store_status()) {
            (Ok(entry), _) => Ok(Some(entry)),
            (Err(_), Err(why)) if is_absent(why) => Ok(None),
            (Err(_), Err(why)) => Err(failed(why)),
            (Err(why), Ok(())) => Err(failed(&why)),
        }
    }

    /// Whether nothing here offers a keyring: there is no session bus, or nobody on it who has one (D-Bus Specification, "Standard Error
    /// Names"). The library tells neither by a kind.
    fn is_absent(why: &keyring::Error) -> bool {
        const NOBODY: [&str; 4] = [
            "org.freedesktop.DBus.Error.ServiceUnknown",
            "org.freedesktop.DBus.Error.NameHasNoOwner",
            "org.freedesktop.DBus.Error.Spawn.",
            "no secret service provider",
        ];
        let told = why.to_string();
        NOBODY.iter().any(|word| told.contains(word))
    }

    fn failed(why: &keyring::Error) -> String {
        format!("the system's keyring cannot be read: {why}")
    }

    pub fn find(home: &Home, name: &str) -> Result<Option<String>, String> {
        let Some(entry) = entry(home, name)? else { return Ok(None) };
        match entry.get_password() {
            Ok(secret) => Ok(Some(secret)),
            Err(keyring::Error::NoEntry) => Ok(None),
            Err(why) => Err(failed(&why)),
        }
    }

    /// Where it takes nothing, the secret is kept elsewhere.
    pub fn keep(home: &Home, name: &str, secret: &str) -> bool {
        matches!(entry(home, name), Ok(Some(entry)) if entry.set_password(secret).is_ok())
    }

    pub fn forget(home: &Home, name: &str) -> Result<bool, String> {
        let Some(entry) = entry(home, name)? else { return Ok(false) };
        match entry.delete_credential() {
            Ok(()) => Ok(true),
            Err(keyring::Error::NoEntry) => Ok(false),
            Err(why) => Err(failed(&why)),
        }
    }
}

/// A program that was built without a keyring keeps nothing there.
#[cfg(not(feature = "keyring"))]
mod ring {
    use super::Home;

    pub fn find(_home: &Home, _name: &str) -> Result<Option<String>, String> {
        Ok(None)
    }

    pub fn keep(_home: &Home, _name: &str, _secret: &str) -> bool {
        false
    }

    pub fn forget(_home: &Home, _name: &str) -> Result<bool, String> {
        Ok(false)
    }
}

/// Looks a secret up; errors are sentences.
///
/// # Errors
/// When the keyring, or a file of secrets, is there and cannot be read.
pub fn find(desk: &Desk, name: &str) -> Result<Option<Secret>, String> {
    if let Some(kept) = read_file(&desk.home)?.secrets.remove(name) {
        return Ok(Some(Secret::new(kept)));
    }
    if let Some(kept) = read_sealed(desk)?.and_then(|mut file| file.secrets.remove(name)) {
        return Ok(Some(Secret::new(kept)));
    }
    Ok(ring::find(&desk.home, name)?.map(Secret::new))
}

/// Keeps a secret.
///
/// # Errors
/// When it cannot be kept where nobody else can read it.
pub fn keep(desk: &Desk, name: &str, secret: &Secret) -> Outcome<Kept> {
    let home = &desk.home;
    if ring::keep(home, name, secret.reveal()) {
        return Ok(Kept::Keyring);
    }
    let (name, secret) = (name.to_owned(), secret.reveal().to_owned());
    if home.sealed_secrets_file().exists() || !can_be_closed(home)? {
        let mut file = read_sealed(desk).map_err(Failure::usage)?.unwrap_or_default();
        file.secrets.insert(name, secret);
        seal(desk, file)?;
        return Ok(Kept::Sealed);
    }
    let mut file = read_file(home).map_err(Failure::usage)?;
    file.secrets.insert(name, secret);
    write_file(home, &file)?;
    Ok(Kept::File)
}

/// Forgets a secret; whether there was one.
///
/// # Errors
/// When a file of secrets cannot be read or written.
pub fn forget(desk: &Desk, name: &str) -> Outcome<bool> {
    let home = &desk.home;
    let in_keyring = ring::forget(home, name).map_err(Failure::usage)?;
    let mut file = read_file(home).map_err(Failure::usage)?;
    let in_file = file.secrets.remove(name).is_some();
    if in_file {
        write_file(home, &file)?;
    }
    let mut sealed = read_sealed(desk).map_err(Failure::usage)?;
    let in_sealed = sealed.as_mut().is_some_and(|file| file.secrets.remove(name).is_some());
    if let Some(file) = sealed.filter(|_| in_sealed) {
        seal(desk, file)?;
    }
    Ok(in_keyring || in_file || in_sealed)
}

/// Whether a file in the folder of settings can be closed to others, found out with an empty one: what was once written in the clear
/// to a stick can be read from it after it was removed.
fn can_be_closed(home: &Home) -> Outcome<bool> {
    make_folder(home.config())?;
    let trial = home.config().join(format!("secrets-trial-{:016x}", fastrand::u64(..)));
    let failed =
        |error| Failure::own_files(&format!("cannot write in {}", home.shorten(home.config())), error);
    drop(closed().write(true).create_new(true).open(&trial).map_err(failed)?);
    let is_closed = is_closed(&trial);
    fs::remove_file(&trial).map_err(failed)?;
    Ok(is_closed)
}

/// Whether a file belongs to this account and is closed to others.
fn is_closed(path: &Path) -> bool {
    let us = rustix::process::geteuid().as_raw();
    fs::symlink_metadata(path).is_ok_and(|found| found.mode() & 0o077 == 0 && found.uid() == us)
}

fn read_file(home: &Home) -> Result<SecretsFile, String> {
    let path = home.secrets_file();
    let meta = match fs::metadata(&path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(SecretsFile::default()),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    if meta.permissions().mode() & 0o077 != 0 {
        return Err(match can_be_closed(home) {
            Ok(false) => format!(
                "{0} can be read by everybody who has this drive, and no file there can be closed: remove it, change \
                 those secrets, and keep the new ones with `reedhook store secret NAME`, sealed with a passphrase",
                path.display()
            ),
            _ => format!("{0} can be read by others; close it with: chmod 600 {0}", path.display()),
        });
    }
    let text = fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    read_toml(&text, &path)
}

fn read_toml(text: &str, path: &Path) -> Result<SecretsFile, String> {
    // Its text is not repeated: there are secrets in it.
    let unreadable = || format!("{} cannot be read as TOML", path.display());
    if depth::too_deep_at(text).is_some() {
        return Err(unreadable());
    }
    toml::from_str(text).map_err(|_| unreadable())
}

fn to_toml(file: &SecretsFile) -> Outcome<String> {
    toml::to_string(file).map_err(|error| Failure::own_files("the secret cannot be kept", error))
}

fn write_file(home: &Home, file: &SecretsFile) -> Outcome<()> {
    let path = home.secrets_file();
    crate::home::write_file(&path, &to_toml(file)?)?;
    if is_closed(&path) {
        return Ok(());
    }
    let _ = fs::remove_file(&path);
    Err(Failure::usage(format!(
        "{} could be read by others once it was written; it is removed, and no secret is kept",
        path.display()
    ))
    .hint("Look at the rights of that folder, or keep Reedhook's files elsewhere with --home."))
}

/// What the sealed file holds; `None` without one. A person is asked for the passphrase once.
fn read_sealed(desk: &Desk) -> Result<Option<SecretsFile>, String> {
    let path = desk.home.sealed_secrets_file();
    let sealed = match fs::read(&path) {
        Ok(sealed) => sealed,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    let mut opened = desk.secrets.opened();
    if let Some((_, file)) = &opened.0 {
        return Ok(Some(file.clone()));
    }
    let shown = desk.home.shorten(&path);
    let question = format!("Passphrase of {shown}");
    let passphrase = passphrase(desk, &question)?.ok_or_else(|| {
        format!("the secrets in {shown} are sealed: put the passphrase into {PASSPHRASE_VARIABLE}, or run this at a terminal")
    })?;
    let text = unseal(&sealed, &passphrase).map_err(|why| format!("{shown} cannot be opened: {why}"))?;
    let file = read_toml(&text, &path)?;
    opened.0 = Some((passphrase, file.clone()));
    Ok(Some(file))
}

fn passphrase(desk: &Desk, question: &str) -> Result<Option<String>, String> {
    if let Some(told) = desk.world.text(PASSPHRASE_VARIABLE) {
        return Ok(Some(told));
    }
    let typed = desk.asking(|| desk.secrets.ask(question)).map_err(|failure| failure.message)?;
    Ok(typed.map(|typed| typed.reveal().to_owned()).filter(|typed| !typed.is_empty()))
}

fn unseal(sealed: &[u8], passphrase: &str) -> Result<String, String> {
    let mut identity = age::scrypt::Identity::new(SecretString::from(passphrase.to_owned()));
    identity.set_max_work_factor(WORK + 4);
    let decryptor = age::Decryptor::new(sealed).map_err(|error| error.to_string())?;
    let mut reader = decryptor
        .decrypt(std::iter::once(&identity as &dyn age::Identity))
        .map_err(|_| "the passphrase is not the right one".to_owned())?;
    let mut text = String::new();
    reader.read_to_string(&mut text).map_err(|error| error.to_string())?;
    Ok(text)
}

/// Seals the secrets anew, with the passphrase that they were opened with, or a new one.
fn seal(desk: &Desk, file: SecretsFile) -> Outcome<()> {
    let path = desk.home.sealed_secrets_file();
    let known = desk.secrets.opened().0.as_ref().map(|(passphrase, _)| passphrase.clone());
    let passphrase = match known {
        Some(known) => known,
        None => new_passphrase(desk)?,
    };
    let failed = |error: &dyn std::fmt::Display| Failure::own_files("the secrets cannot be sealed", error);
    let mut recipient = age::scrypt::Recipient::new(SecretString::from(passphrase.clone()));
    recipient.set_work_factor(WORK);
    let encryptor = age::Encryptor::with_recipients(std::iter::once(&recipient as &dyn age::Recipient))
        .map_err(|error| failed(&error))?;
    let mut sealed = Vec::new();
    let mut writer = encryptor.wrap_output(&mut sealed).map_err(|error| failed(&error))?;
    writer.write_all(to_toml(&file)?.as_bytes()).map_err(|error| failed(&error))?;
    writer.finish().map_err(|error| failed(&error))?;
    crate::home::write_bytes(&path, &sealed)?;
    desk.secrets.opened().0 = Some((passphrase, file));
    Ok(())
}

fn new_passphrase(desk: &Desk) -> Outcome<String> {
    let shown = desk.home.shorten(desk.home.config());
    let question =
        format!("No file in {shown} can be closed to others. A passphrase to seal the secrets with");
    let missing = || {
        Failure::usage(format!(
            "no file in {shown} can be closed to others, so no secret is kept there in the clear"
        ))
        .hint(format!(
            "Put a passphrase to seal it with into {PASSPHRASE_VARIABLE}, or run this at a terminal."
        ))
    };
    let chosen = passphrase(desk, &question).map_err(Failure::usage)?.ok_or_else(missing)?;
    let again = passphrase(desk, "The same once more").map_err(Failure::usage)?;
    match again.as_deref() == Some(chosen.as_str()) {
        true => Ok(chosen),
        false => Err(Failure::usage("the two passphrases differ; nothing was kept")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::world::World;

    fn desk(folder: &Path) -> Desk {
        let home = Home::find(Some(folder), &World::plain()).unwrap();
        Desk::new(home, crate::settings::Settings::default(), World::plain())
    }

    #[test]
    fn the_file_is_its_owners_alone_and_refused_when_it_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let desk = desk(folder.path());
        let home = &desk.home;
        assert_eq!(keep(&desk, "archive", &Secret::new("marsh tit")).unwrap(), Kept::File);
        let mode = fs::metadata(home.secrets_file()).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        assert_eq!(find(&desk, "archive").unwrap().unwrap().reveal(), "marsh tit");
        assert_eq!(find(&desk, "other").unwrap(), None);
        fs::set_permissions(home.secrets_file(), fs::Permissions::from_mode(0o640)).unwrap();
        assert!(find(&desk, "archive").unwrap_err().contains("chmod 600"));
        fs::set_permissions(home.secrets_file(), fs::Permissions::from_mode(0o600)).unwrap();
        assert!(forget(&desk, "archive").unwrap() && !forget(&desk, "archive").unwrap());
        assert_eq!(find(&desk, "archive").unwrap(), None);
    }

    #[test]
    fn what_is_sealed_opens_with_its_passphrase_only() {
        let folder = tempfile::tempdir().unwrap();
        let mut desk = desk(folder.path());
        desk.world.variable = |name| (name == PASSPHRASE_VARIABLE).then(|| "reed bunting".into());
        let file = SecretsFile { secrets: [("archive".to_owned(), "marsh tit".to_owned())].into() };
        seal(&desk, file).unwrap();
        let bytes = fs::read(desk.home.sealed_secrets_file()).unwrap();
        assert!(bytes.starts_with(b"age-encryption.org/v1\n-> scrypt "));
        desk.secrets = std::sync::Arc::default();
        assert_eq!(find(&desk, "archive").unwrap().unwrap().reveal(), "marsh tit");
        assert_eq!(keep(&desk, "other", &Secret::new("teal")).unwrap(), Kept::Sealed);
        desk.secrets = std::sync::Arc::default();
        assert_eq!(find(&desk, "other").unwrap().unwrap().reveal(), "teal");
        desk.secrets = std::sync::Arc::default();
        desk.world.variable = |name| (name == PASSPHRASE_VARIABLE).then(|| "another".into());
        assert!(find(&desk, "archive").unwrap_err().contains("not the right one"));
        desk.world.variable = |_| None;
        assert!(find(&desk, "archive").unwrap_err().contains(PASSPHRASE_VARIABLE));
    }
}
