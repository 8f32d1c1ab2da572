//! Reaching a server over SSH: who it is (known hosts), who we are (agent, keys, password), and by which way (jump hosts).

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use russh::client::{self, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{self, HashAlg, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate};
use tokio::net::TcpStream;

use super::config;
use super::known::{KnownHosts, Verdict, is_same_type};
use crate::child;
use crate::remote::connect::{Account, CONNECT_WITHIN, ConnectError, Hop};

/// Servers close the door after about six keys.
const KEYS_TRIED: usize = 4;

/// What this machine has for SSH.
#[derive(Debug, Clone, Default)]
pub struct SshSetup {
    /// The user's own folder, `~/.ssh`.
    pub folder: Option<PathBuf>,
    /// The socket of a running agent.
    pub agent: Option<PathBuf>,
    /// A key file to use before any other.
    pub key: Option<PathBuf>,
    /// Our own file of known hosts, besides the user's.
    pub known_hosts: Option<PathBuf>,
    /// The machine's own files of known hosts.
    pub system_known_hosts: Vec<PathBuf>,
    /// The account's name on this machine, taken where no other is given.
    pub local_user: String,
    /// A fingerprint that a person has said to be right: a host that shows it becomes known.
    pub accept: Option<String>,
}

/// Where to and as whom, after the user's `~/.ssh/config` has had its say.
struct Target {
    host: String,
    port: u16,
    user: String,
    keys: Vec<PathBuf>,
    known_hosts: Vec<PathBuf>,
    /// The name that the host has in files of known hosts.
    alias: Option<String>,
    jump: Option<String>,
    command: Option<String>,
}

impl Target {
    /// The name and the port under which the host is known.
    fn known_as(&self) -> (&str, u16) {
        self.alias.as_deref().map_or((self.host.as_str(), self.port), |alias| (alias, 22))
    }

    fn shown(&self) -> String {
        if self.port == 22 { self.host.clone() } else { format!("{}:{}", self.host, self.port) }
    }
}

/// What the server's key turned out to be, told by the handshake to whoever began it.
type Finding = Arc<Mutex<Option<ConnectError>>>;

pub(super) struct Greeter {
    host: String,
    port: u16,
    files: Vec<PathBuf>,
    own: Option<PathBuf>,
    accept: Option<String>,
    finding: Finding,
}

impl Greeter {
    fn judge(&self, key: &PublicKey) -> Result<bool, ConnectError> {
        let fingerprint = key.fingerprint(HashAlg::Sha256).to_string();
        let host =
            || if self.port == 22 { self.host.clone() } else { format!("{}:{}", self.host, self.port) };
        match KnownHosts::of(&self.host, self.port, &self.files).judge(key) {
            Verdict::Known => return Ok(true),
            Verdict::Unknown => {}
            Verdict::Changed(file, line) => {
                return Err(ConnectError::HostChanged { host: host(), fingerprint, file, line });
            }
            Verdict::Revoked(file, line) => {
                return Err(ConnectError::HostRevoked { host: host(), fingerprint, file, line });
            }
            Verdict::Unread(file, why) => {
                let words = format!(
                    "whether {} is known cannot be seen: {} cannot be read: {why}",
                    host(),
                    file.display()
                );
                return Err(ConnectError::Setup(words));
            }
        }
        if let Some(accepted) = self.accept.clone().filter(|accepted| *accepted != fingerprint) {
            return Err(ConnectError::OtherHost { host: host(), fingerprint, accepted });
        }
        if let (Some(_), Some(own)) = (&self.accept, &self.own) {
            let learned = keys::known_hosts::learn_known_hosts_path(&self.host, self.port, key, own);
            return match learned {
                Ok(()) => Ok(true),
                Err(error) => {
                    Err(ConnectError::Setup(format!("{} cannot be written: {error}", own.display())))
                }
            };
        }
        Err(ConnectError::UnknownHost { host: host(), fingerprint })
    }
}

impl client::Handler for Greeter {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &PublicKeyOrCertificate) -> Result<bool, russh::Error> {
        let judged = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => self.judge(key),
            PublicKeyOrCertificate::Certificate(certificate) => {
                self.judge(&PublicKey::from(certificate.public_key().clone()))
            }
        };
        judged.or_else(|error| {
            *self.finding.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
            Ok(false)
        })
    }
}

/// Connects and logs in.
pub(super) async fn connect(
    host: &str,
    port: Option<u16>,
    account: &Account,
    setup: &SshSetup,
) -> Result<Handle<Greeter>, ConnectError> {
    let target = find_target(host, port, account.user.as_deref(), setup)?;
    let mut handle = reach(&target, account, setup).await?;
    log_in(&mut handle, &target, account, setup).await?;
    Ok(handle)
}

/// Whether a host or a user's name can be given to a shell and to other programs as it is: it may come from an address that somebody
/// else wrote, and goes into the user's `ProxyCommand`.
pub fn is_plain(name: &str) -> bool {
    let is_odd = |character: char| {
        character.is_control() || character.is_whitespace() || "'`\"$\\;&<>|(){}*?!#~".contains(character)
    };
    !name.is_empty() && !name.starts_with('-') && !name.contains(is_odd)
}

fn refuse_odd_names(host: &str, user: Option<&str>) -> Result<(), ConnectError> {
    let odd = |what: &str, name: &str| {
        Err(ConnectError::Setup(format!("{name:?} is no name of a {what}: a shell could take it for more")))
    };
    match user {
        _ if !is_plain(host) => odd("host", host),
        Some(user) if !is_plain(user) => odd("user", user),
        _ => Ok(()),
    }
}

/// Asks `~/.ssh/config`. What the address says comes first.
fn find_target(
    host: &str,
    port: Option<u16>,
    user: Option<&str>,
    setup: &SshSetup,
) -> Result<Target, ConnectError> {
    refuse_odd_names(host, user)?;
    let target = find_target_of(host, port, user, setup)?;
    refuse_odd_names(&target.host, Some(&target.user))?;
    Ok(target)
}

fn find_target_of(
    host: &str,
    port: Option<u16>,
    user: Option<&str>,
    setup: &SshSetup,
) -> Result<Target, ConnectError> {
    let keys = |more: Vec<PathBuf>| setup.key.iter().cloned().chain(more).collect();
    if let Some(folder) = &setup.folder
        && let Some(said) = config::ask(host, port, user, folder)?
    {
        return Ok(Target {
            host: said.host,
            port: said.port.unwrap_or(22),
            user: said.user,
            keys: keys(said.keys),
            known_hosts: said.known_hosts,
            alias: said.alias,
            jump: said.jump,
            command: said.command,
        });
    }
    let file = setup.folder.as_ref().map(|folder| folder.join("config"));
    let text = file.as_ref().and_then(|file| std::fs::read_to_string(file).ok()).unwrap_or_default();
    let found = russh_config::parse(&readable(&text), host)
        .map_err(|error| ConnectError::Setup(format!("~/.ssh/config cannot be read: {error}")))?;
    let config = found.host_config.clone();
    let known_hosts = config.user_known_hosts_file.into_iter().collect();
    Ok(Target {
        host: found.host().to_owned(),
        port: port.or(config.port).unwrap_or(22),
        user: user.map(str::to_owned).or(config.user).unwrap_or_else(|| setup.local_user.clone()),
        keys: keys(config.identity_file.unwrap_or_default()),
        known_hosts,
        alias: None,
        jump: config.proxy_jump.filter(|jump| !jump.eq_ignore_ascii_case("none")),
        command: config.proxy_command.filter(|command| !command.eq_ignore_ascii_case("none")),
    })
}

/// The configuration as its reader understands it: lines before the first `Host` hold for all hosts, and a `Match` block, whose
/// conditions it does not know, holds for none.
fn readable(text: &str) -> String {
    let mut lines = vec!["Host *".to_owned()];
    let mut matching = false;
    for line in text.lines() {
        let word = line.trim().split([' ', '\t', '=']).next().unwrap_or_default().to_ascii_lowercase();
        matching = word == "match" || (matching && word != "host");
        if !matching && !word.is_empty() && !word.starts_with('#') {
            let value = line.trim()[word.len()..].trim_start_matches([' ', '\t', '=']);
            lines.push(format!("{word} {value}"));
        }
    }
    lines.join("\n")
}

/// Opens the connection, directly or by way of others, and checks the server's key.
async fn reach(
    target: &Target,
    account: &Account,
    setup: &SshSetup,
) -> Result<Handle<Greeter>, ConnectError> {
    let unreachable = |why: String| ConnectError::Unreachable { address: target.shown(), why };
    let usual = |folder: &PathBuf| [folder.join("known_hosts"), folder.join("known_hosts2")];
    let users = setup.folder.iter().flat_map(usual);
    let files: Vec<PathBuf> = target
        .known_hosts
        .iter()
        .cloned()
        .chain(users)
        .chain(setup.known_hosts.clone())
        .chain(setup.system_known_hosts.iter().cloned())
        .collect();
    let config = Arc::new(client_config(target, &files));
    let finding = Finding::default();
    let greeter = Greeter {
        host: target.known_as().0.to_owned(),
        port: target.known_as().1,
        files,
        own: setup.known_hosts.clone(),
        accept: setup.accept.clone(),
        finding: finding.clone(),
    };
    let shaken = if let Some(jump) = &target.jump {
        let stream = by_jump(jump, target, account, setup).await?;
        within(client::connect_stream(config, stream, greeter)).await
    } else if let Some(command) = &target.command {
        let stream = by_command(command, target).await.map_err(unreachable)?;
        within(client::connect_stream(config, stream, greeter)).await
    } else {
        let connecting = TcpStream::connect((target.host.as_str(), target.port));
        let stream = tokio::time::timeout(CONNECT_WITHIN, connecting).await;
        let stream = stream.map_err(|_| unreachable("no answer".to_owned()))?;
        let stream = stream.map_err(|error| unreachable(plain(&error)))?;
        let _ = stream.set_nodelay(true);
        within(client::connect_stream(config, stream, greeter)).await
    };
    shaken.map_err(|why| {
        finding.lock().unwrap_or_else(PoisonError::into_inner).take().unwrap_or_else(|| unreachable(why))
    })
}

async fn within(
    shaking: impl Future<Output = Result<Handle<Greeter>, russh::Error>>,
) -> Result<Handle<Greeter>, String> {
    match tokio::time::timeout(CONNECT_WITHIN, shaking).await {
        Ok(shaken) => shaken.map_err(|error| error.to_string()),
        Err(_) => Err("no answer".to_owned()),
    }
}

fn plain(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::ConnectionRefused => {
            "the connection was refused; is the server running there?".to_owned()
        }
        _ => error.to_string(),
    }
}

fn client_config(target: &Target, files: &[PathBuf]) -> client::Config {
    let mut config = client::Config {
        // Large enough for the bytes that are underway on a long way.
        window_size: 16 << 20,
        maximum_packet_size: 65_535,
        channel_buffer_size: 1024,
        keepalive_interval: Some(Duration::from_secs(15)),
        keepalive_max: 3,
        nodelay: true,
        ..client::Config::default()
    };
    // A host is asked for the kind of key that is known of it; with another it would look like a stranger.
    let (name, port) = target.known_as();
    let known = KnownHosts::of(name, port, files).algorithms();
    let mut order = config.preferred.key.to_vec();
    order.sort_by_key(|algorithm| !known.iter().any(|known| is_same_type(known, algorithm)));
    config.preferred.key = order.into();
    config
}

/// A stream to the target through other hosts, the nearest first.
async fn by_jump(
    jump: &str,
    target: &Target,
    account: &Account,
    setup: &SshSetup,
) -> Result<russh::ChannelStream<client::Msg>, ConnectError> {
    let (before, last) = match jump.rsplit_once(',') {
        Some((before, last)) => (Some(before), last),
        None => (None, jump),
    };
    let (user, rest) = match last.rsplit_once('@') {
        Some((user, rest)) => (Some(user), rest),
        None => (None, last),
    };
    let (host, port) = host_and_port(rest);
    // A host on the way is a server of its own: nothing that is the target's is offered to it.
    let setup = &SshSetup { key: None, ..setup.clone() };
    let mut way = find_target(host, port, user, setup)?;
    way.jump = before.map(str::to_owned).or(way.jump.filter(|further| *further != last));
    let account = &account.of_hop(&Hop { host: host.to_owned(), port: way.port, user: way.user.clone() });
    let mut handle = Box::pin(reach(&way, account, setup)).await?;
    log_in(&mut handle, &way, account, setup).await?;
    let opened = handle.channel_open_direct_tcpip(&target.host, u32::from(target.port), "localhost", 0).await;
    let channel = opened.map_err(|error| ConnectError::Unreachable {
        address: target.shown(),
        why: format!("{} does not lead there: {error}", way.shown()),
    })?;
    let stream = channel.into_stream();
    // The connection lives as long as its channel is read: its handle is kept by a task of its own.
    tokio::spawn(async move {
        while !handle.is_closed() {
            tokio::time::sleep(Duration::from_secs(5)).await;
        }
    });
    Ok(stream)
}

/// `HOST`, `HOST:PORT`, `[ADDRESS]:PORT`; an address of IPv6 without brackets has no port.
fn host_and_port(text: &str) -> (&str, Option<u16>) {
    if let Some((host, rest)) = text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        return (host, rest.strip_prefix(':').and_then(|port| port.parse().ok()));
    }
    match text.rsplit_once(':').map(|(host, port)| (host, port.parse())) {
        Some((host, Ok(port))) if !host.contains(':') => (host, Some(port)),
        _ => (text, None),
    }
}

/// As ssh does it: the user's shell reads the command, with its quotes.
async fn by_command(command: &str, target: &Target) -> Result<russh_config::Stream, String> {
    let command = with_tokens(command, target);
    let unset = child::SECRET_VARIABLES.join(" ");
    russh_config::Stream::proxy_command("sh", &["-c", &format!("unset {unset}; exec {command}")])
        .await
        .map_err(|error| format!("{command}: {error}"))
}

/// `%h`, `%p`, `%r`, and `%%`.
fn with_tokens(command: &str, target: &Target) -> String {
    let mut text = String::new();
    let mut rest = command.chars();
    while let Some(character) = rest.next() {
        match (character, character == '%') {
            (_, true) => match rest.next() {
                Some('h') => text.push_str(&target.host),
                Some('p') => text.push_str(&target.port.to_string()),
                Some('r') => text.push_str(&target.user),
                Some('%') => text.push('%'),
                other => text.extend(['%'].into_iter().chain(other)),
            },
            (plain, false) => text.push(plain),
        }
    }
    text
}

/// Tries what there is: the agent's keys, key files, then the password.
async fn log_in(
    handle: &mut Handle<Greeter>,
    target: &Target,
    account: &Account,
    setup: &SshSetup,
) -> Result<(), ConnectError> {
    let address = target.shown();
    let lost =
        |error: russh::Error| ConnectError::Unreachable { address: address.clone(), why: error.to_string() };
    let mut tried = Vec::new();
    // A secret that belongs to a key is never shown to a server.
    let mut belongs_to_key = false;
    let rsa = handle.best_supported_rsa_hash().await.ok().flatten().flatten();
    if setup.key.is_none() && with_agent(handle, target, setup, rsa, &mut tried).await {
        return Ok(());
    }
    for key in key_files(target, setup) {
        let shown = key.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let loaded = match keys::load_secret_key(&key, None) {
            Err(keys::Error::KeyIsEncrypted) => {
                let phrase = account.find_secret(&address)?;
                let opened =
                    phrase.and_then(|phrase| keys::load_secret_key(&key, Some(phrase.reveal())).ok());
                // One that was named goes with the secret, even if that does not open it.
                belongs_to_key |= opened.is_some() || setup.key.as_ref() == Some(&key);
                opened
            }
            loaded => loaded.ok(),
        };
        let Some(loaded) = loaded else {
            tried.push(format!("key {shown}, which cannot be read or needs another passphrase"));
            continue;
        };
        tried.push(format!("key {shown}"));
        let key = PrivateKeyWithHashAlg::new(Arc::new(loaded), rsa);
        if handle.authenticate_publickey(&target.user, key).await.map_err(lost)?.success() {
            return Ok(());
        }
    }
    if !belongs_to_key && let Some(secret) = account.find_secret(&address)? {
        tried.push("password".to_owned());
        let outcome = handle.authenticate_password(&target.user, secret.reveal()).await.map_err(lost)?;
        if outcome.success() || by_questions(handle, target, secret.reveal()).await {
            return Ok(());
        }
    }
    let tried =
        if tried.is_empty() { "nothing: no agent, no key, no password".to_owned() } else { tried.join(", ") };
    Err(ConnectError::Login { address: target.shown(), user: target.user.clone(), tried })
}

fn key_files(target: &Target, setup: &SshSetup) -> Vec<PathBuf> {
    if !target.keys.is_empty() {
        return target.keys.iter().take(KEYS_TRIED).cloned().collect();
    }
    let usual = ["id_ed25519", "id_ecdsa", "id_rsa"];
    let folder = setup.folder.iter().flat_map(|folder| usual.map(|name| folder.join(name)));
    folder.filter(|file| file.is_file()).collect()
}

async fn with_agent(
    handle: &mut Handle<Greeter>,
    target: &Target,
    setup: &SshSetup,
    rsa: Option<HashAlg>,
    tried: &mut Vec<String>,
) -> bool {
    let Some(socket) = &setup.agent else { return false };
    let Ok(mut agent) = AgentClient::connect_uds(socket).await else { return false };
    let Ok(identities) = agent.request_identities().await else { return false };
    for identity in identities.into_iter().take(KEYS_TRIED) {
        let AgentIdentity::PublicKey { key, comment } = identity else { continue };
        tried.push(format!("agent's key {comment}"));
        let hash = rsa.filter(|_| key.algorithm().is_rsa());
        let outcome = handle.authenticate_publickey_with(&target.user, key, hash, &mut agent).await;
        if outcome.is_ok_and(|outcome| outcome.success()) {
            return true;
        }
    }
    false
}

/// Some servers ask for the password as one of several possible questions.
async fn by_questions(handle: &mut Handle<Greeter>, target: &Target, secret: &str) -> bool {
    let mut answer = handle.authenticate_keyboard_interactive_start(&target.user, None).await;
    for _ in 0..3 {
        match answer {
            Ok(KeyboardInteractiveAuthResponse::Success) => return true,
            Ok(KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. }) => {
                let answers = prompts.iter().map(|_| secret.to_owned()).collect();
                answer = handle.authenticate_keyboard_interactive_respond(answers).await;
            }
            _ => return false,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_users_configuration_is_read_as_it_is_meant() {
        let folder = tempfile::tempdir().expect("a folder");
        let text = "Port 2200\n# a comment\nHost archive\n  HostName = 10.0.0.7\n\tUser warden\n\
                    Match exec \"true\"\n  Port 99\nHost *\n  ProxyJump gate\n";
        std::fs::write(folder.path().join("config"), text).expect("a file");
        let setup = SshSetup {
            folder: Some(folder.path().to_owned()),
            local_user: "ranger".to_owned(),
            ..SshSetup::default()
        };
        let find = |host: &str, port, user| find_target(host, port, user, &setup).expect("a target");
        let archive = find("archive", None, None);
        assert_eq!(
            (archive.host.as_str(), archive.port, archive.user.as_str()),
            ("10.0.0.7", 2200, "warden")
        );
        assert_eq!(archive.jump.as_deref(), Some("gate"));
        let told = find("archive", Some(22), Some("me"));
        assert_eq!((told.port, told.user.as_str()), (22, "me"), "what the address says comes first");
        let other = find("elsewhere", None, None);
        assert_eq!(other.host.as_str(), "elsewhere");
    }

    #[test]
    fn jumps_and_commands_are_read_as_ssh_reads_them() {
        let rows = [
            ("gate", ("gate", None)),
            ("gate:2200", ("gate", Some(2200))),
            ("[fd00::7]:2200", ("fd00::7", Some(2200))),
            ("[fd00::7]", ("fd00::7", None)),
            ("fd00::7", ("fd00::7", None)),
        ];
        for (text, expected) in rows {
            assert_eq!(host_and_port(text), expected, "{text}");
        }
        let target = Target {
            host: "archive".to_owned(),
            port: 2200,
            user: "warden".to_owned(),
            keys: Vec::new(),
            known_hosts: Vec::new(),
            alias: None,
            jump: None,
            command: None,
        };
        let command = with_tokens("relay --to '%h port %p' %r 100%% %x", &target);
        assert_eq!(command, "relay --to 'archive port 2200' warden 100% %x");
    }

    #[test]
    fn fuzzed_configuration() {
        let seeds: [&[u8]; 1] = [b"Host archive\n  HostName 10.0.0.7\n  ProxyCommand relay %h:%p %r %%\n  ProxyJump a@b:1,c\nMatch all\n"];
        reedhook_testing::fuzz("ssh configuration", &seeds, |bytes| {
            let text = String::from_utf8_lossy(bytes);
            drop(russh_config::parse(&readable(&text), "archive"));
            let _ = (host_and_port(&text), is_plain(&text));
            let command = crate::remote::sftp::config::fuzzed(&text);
            assert!(command.is_none_or(|host| host == host.trim_end_matches('\n')));
        });
    }
}
