//! What the user's `~/.ssh/config` says of a host, asked of ssh itself.
//!
//! `ssh -G HOST` prints what would be used: with `Include`, `Match`, tokens, quotes and the rule that the first value wins. Where ssh is
//! not installed, a simpler reading has to do (in [`super::ssh`]).

use std::path::{Path, PathBuf};
use std::process::Stdio;

use crate::child;
use crate::remote::connect::ConnectError;

/// What ssh would use for a host.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(super) struct Said {
    pub(super) host: String,
    pub(super) port: Option<u16>,
    pub(super) user: String,
    /// Key files, those that are there.
    pub(super) keys: Vec<PathBuf>,
    /// Files of known hosts, besides the usual ones.
    pub(super) known_hosts: Vec<PathBuf>,
    /// The name that the host has in files of known hosts.
    pub(super) alias: Option<String>,
    pub(super) jump: Option<String>,
    pub(super) command: Option<String>,
}

/// Asks ssh; `None` where it is not installed. What the address says of port and user is told, since conditions may be about it.
pub(super) fn ask(
    host: &str,
    port: Option<u16>,
    user: Option<&str>,
    folder: &Path,
) -> Result<Option<Said>, ConnectError> {
    let mut command = child::command("ssh");
    command.arg("-G").stdin(Stdio::null());
    let file = folder.join("config");
    // ssh looks into the account's folder, whatever HOME says.
    let file = if file.is_file() { file } else { PathBuf::from("/etc/ssh/ssh_config") };
    if file.is_file() {
        command.arg("-F").arg(&file);
    } else {
        command.args(["-F", "none"]);
    }
    port.map(|port| command.args(["-p", &port.to_string()]));
    user.map(|user| command.args(["-l", user]));
    let output = match command.arg("--").arg(host).output() {
        Ok(output) => output,
        Err(_) => return Ok(None),
    };
    if !output.status.success() {
        let why = String::from_utf8_lossy(&output.stderr).into_owned();
        let why =
            why.lines().find(|line| !line.trim().is_empty()).unwrap_or("ssh does not say why").to_owned();
        return Err(ConnectError::Setup(format!("the configuration of ssh cannot be used: {why}")));
    }
    Ok(Some(read(&String::from_utf8_lossy(&output.stdout), folder)))
}

fn read(text: &str, folder: &Path) -> Said {
    let mut said = Said::default();
    let home = folder.parent().unwrap_or(folder);
    let expand = |path: &str| match path.strip_prefix("~/") {
        Some(below) => home.join(below),
        None => PathBuf::from(path),
    };
    let unless_none =
        |value: &str| Some(value.to_owned()).filter(|value| !value.eq_ignore_ascii_case("none"));
    for (word, value) in text.lines().filter_map(|line| line.split_once(' ')) {
        match word {
            "hostname" => said.host = value.to_owned(),
            "port" => said.port = value.parse().ok(),
            "user" => said.user = value.to_owned(),
            "identityfile" => said.keys.push(expand(value)),
            "hostkeyalias" => said.alias = unless_none(value),
            "proxyjump" => said.jump = unless_none(value),
            "proxycommand" => said.command = unless_none(value),
            "userknownhostsfile" => {
                let usual = |path: &PathBuf| path.parent().is_some_and(|folder| folder.ends_with(".ssh"));
                said.known_hosts = value.split(' ').map(expand).filter(|path| !usual(path)).collect();
            }
            _ => {}
        }
    }
    said.keys.retain(|key| key.is_file());
    said
}

/// The host that a foreign answer would name.
#[cfg(test)]
pub(super) fn fuzzed(text: &str) -> Option<String> {
    Some(read(text, Path::new("/home/warden/.ssh")).host).filter(|host| !host.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ssh_says_what_the_configuration_means() {
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join(".ssh");
        std::fs::create_dir_all(folder.join("more")).unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.join(name), text).unwrap();
        write("key one", "");
        write(
            "config",
            &format!(
                "Include {0}/more/*\nHost archive\n  HostName %h.fenmere.example\n  User \"warden\"\n  IdentityFile \"{0}/key one\"\n\
                 Match host *.fenmere.example user warden\n  Port 2200\nHost *\n  User late\n  Port 99\n  ProxyJump gate\n",
                folder.display()
            ),
        );
        write("more/one", "Host archive\n  HostKeyAlias store-one\n  UserKnownHostsFile /srv/known\n");
        let ask = |host: &str, port, user| ask(host, port, user, &folder);
        let Some(archive) = ask("archive", None, None).unwrap() else {
            assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "ssh is not installed");
            return;
        };
        assert_eq!(
            (archive.host.as_str(), archive.port, archive.user.as_str()),
            ("archive.fenmere.example", Some(2200), "warden")
        );
        assert_eq!(archive.alias.as_deref(), Some("store-one"));
        assert_eq!(
            (archive.keys, archive.known_hosts),
            (vec![folder.join("key one")], vec!["/srv/known".into()])
        );
        assert_eq!(archive.jump.as_deref(), Some("gate"));
        let told = ask("archive", Some(22), Some("me")).unwrap().unwrap();
        assert_eq!((told.port, told.user.as_str()), (Some(22), "me"), "what the address says comes first");
        assert!(ask("-oProxyCommand=touch", None, None).is_err(), "a host is no option");
        write("config", "Host *\n  Port nonsense\n");
        assert!(ask("archive", None, None).unwrap_err().to_string().contains("cannot be used"));
    }
}
