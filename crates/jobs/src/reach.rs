//! Places at servers: their addresses, the accounts there, and where secrets come from.
//!
//! A secret is never in a job, in the settings, in an argument or in an address. It comes, in this order, from what the store's
//! entry names (a variable of the environment, or a command that prints it), from `REEDHOOK_SECRET`, from the system's keyring or
//! Reedhook's own file that only its owner may read, and at last from a person at the terminal.

pub use crate::address::{ReachKeys, is_address, refuse_secret_in};

use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;
use std::sync::Arc;

use reedhook_core::path::RelPath;
use reedhook_core::store::StoreExt;
use reedhook_record::KeptNotes;
use reedhook_stores::child;
use reedhook_stores::remote::connect::{
    Account, Address, ConnectError, FindHopSecret, FindSecret, Hop, Secret, Trust, is_loopback,
};
use reedhook_stores::remote::object::ObjectSetup;
use reedhook_stores::remote::patience::Patience;
use reedhook_stores::remote::sftp::SshSetup;
use reedhook_stores::remote::stop::Stop;
use reedhook_stores::remote::{Options, Remote};

use crate::address::parse;
use crate::desk::Desk;
use crate::failure::{Cause, Failure, Outcome};
use crate::secrets;
use crate::settings::StoreEntry;

/// The variable that a secret may be in, whatever the store.
const SECRET_VARIABLE: &str = "REEDHOOK_SECRET";

/// What it takes to reach a place at a server.
#[derive(Debug, Clone)]
pub struct Reach {
    /// The address.
    pub address: Address,
    keys: ReachKeys,
    /// What the secret is kept under: the store's name, or the address of an unnamed place.
    kept_as: String,
    /// A fingerprint that a person has said to be right.
    pub accept: Option<String>,
}

impl Reach {
    /// A place below a named store.
    ///
    /// # Errors
    /// When its address or its keys cannot be read.
    pub fn of_entry(name: &str, entry: &StoreEntry, below: &str) -> Outcome<Reach> {
        RelPath::new(below.as_bytes()).map_err(|error| {
            Failure::usage(format!("\"@{name}/{below}\": the part after the store {error}"))
        })?;
        let (mut address, user) = parse(&entry.location)?;
        if !below.is_empty() {
            if !address.path.ends_with(b"/") {
                address.path.push(b'/');
            }
            address.path.extend_from_slice(below.as_bytes());
        }
        let plain = entry.reach.plain || is_loopback(&address.host);
        let keys = ReachKeys { user: entry.reach.user.clone().or(user), plain, ..entry.reach.clone() };
        Ok(Reach { address, keys, kept_as: name.to_owned(), accept: None })
    }

    /// A place written as an address.
    ///
    /// # Errors
    /// When it cannot be read, or has a secret in it.
    pub fn of_address(text: &str) -> Outcome<Reach> {
        let (address, user) = parse(text)?;
        let kept_as = Address { path: b"/".to_vec(), ..address.clone() }.shown();
        let keys = ReachKeys { user, plain: is_loopback(&address.host), ..ReachKeys::default() };
        Ok(Reach { address, keys, kept_as, accept: None })
    }

    /// The path at the server.
    pub fn path(&self) -> PathBuf {
        PathBuf::from(std::ffi::OsStr::from_bytes(&self.address.path))
    }

    /// Where it is: equal text means the same place.
    pub fn place(&self) -> String {
        let shown = self.address.shown();
        let same_server = shown.replacen("davs:", "dav:", 1).replacen("ftps:", "ftp:", 1);
        same_server.trim_end_matches('/').to_owned()
    }

    fn account(&self, desk: &Desk) -> Account {
        let desk_of_hops = desk.clone();
        let hops: FindHopSecret = Arc::new(move |hop| secret_of_hop(&desk_of_hops, hop));
        Account { user: self.keys.user.clone(), secret: self.find_secret(desk), hops }
    }

    /// Where the secret comes from, when that is not what `store secret` has kept.
    fn secret_came_from(&self, desk: &Desk) -> Option<String> {
        match self.keys.secret.as_deref().and_then(|source| source.split_once(' ')) {
            Some(("env", name)) => Some(format!("the variable {name}")),
            Some(("command", line)) => Some(format!("the command `{line}`")),
            _ => (desk.world.variable)(SECRET_VARIABLE).map(|_| format!("the variable {SECRET_VARIABLE}")),
        }
    }

    /// Looks for the secret when a server asks, once for all connections of this process.
    fn find_secret(&self, desk: &Desk) -> FindSecret {
        let (desk, source, kept_as) = (desk.clone(), self.keys.secret.clone(), self.kept_as.clone());
        let question = match &self.keys.user {
            Some(user) => format!("Secret of {user} at {}", self.address.shown()),
            None => format!("Secret for {}", self.address.shown()),
        };
        Arc::new(move || {
            let mut found = desk.secrets.found();
            if let Some(secret) = found.get(&kept_as) {
                return Ok(Some(secret.clone()));
            }
            let secret = look_for_secret(&desk, source.as_deref(), &kept_as, &question)?;
            if let Some(secret) = &secret {
                found.insert(kept_as.clone(), secret.clone());
            }
            Ok(secret)
        })
    }

    fn options(&self, desk: &Desk) -> Options {
        let home = &desk.home;
        let ssh = SshSetup {
            folder: home.user_folder().map(|user| user.join(".ssh")),
            agent: (desk.world.variable)("SSH_AUTH_SOCK")
                .filter(|socket| !socket.is_empty())
                .map(PathBuf::from),
            key: self.keys.key.as_ref().map(|key| home.expand(&key.to_string_lossy())),
            known_hosts: Some(home.known_hosts()),
            system_known_hosts: vec!["/etc/ssh/ssh_known_hosts".into(), "/etc/ssh/ssh_known_hosts2".into()],
            local_user: local_user(desk),
            accept: self.accept.clone(),
        };
        let authorities = self.keys.authorities.as_ref().map(|file| home.expand(&file.to_string_lossy()));
        let region = self.keys.region.clone().unwrap_or_else(|| ObjectSetup::default().region);
        let plain = self.keys.plain;
        Options {
            ssh,
            trust: Trust { authorities },
            objects: ObjectSetup { region, plain },
            patience: patience(desk),
        }
    }

    /// Connects.
    ///
    /// # Errors
    /// Why it cannot be reached, or does not let us in.
    pub fn open(&self, desk: &Desk) -> Result<Remote, ConnectError> {
        let home = &desk.home;
        let server = Address { path: b"/".to_vec(), ..self.address.clone() }.shown();
        let base: Vec<u8> =
            self.address.path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).fold(
                Vec::new(),
                |mut path, part| {
                    if !path.is_empty() {
                        path.push(b'/');
                    }
                    path.extend_from_slice(part);
                    path
                },
            );
        let setup = |why: String| ConnectError::Setup(why);
        let base =
            RelPath::new(&base).map_err(|error| setup(format!("{}: {error}", self.address.shown())))?;
        // The record lays out the file that the notes are in.
        drop(home.record().map_err(|failure| setup(failure.text()))?);
        let notes =
            KeptNotes::open(&home.state_file(), &server, base).map_err(|error| setup(error.to_string()))?;
        Remote::open(self.address.clone(), self.account(desk), &self.options(desk), Arc::new(notes))
    }

    /// Connects to the nearest folder above that is there; what is missing below it.
    ///
    /// # Errors
    /// When no folder above is there, or the server cannot be reached.
    pub fn open_above(&self, desk: &Desk) -> Outcome<(Remote, RelPath)> {
        let mut above = self.address.path.clone();
        let mut missing: Vec<Vec<u8>> = Vec::new();
        loop {
            while above.ends_with(b"/") {
                above.pop();
            }
            let cut = above.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at + 1);
            let name = above.split_off(cut);
            if name.is_empty() {
                let missing = ConnectError::NoFolder {
                    address: self.address.shown(),
                    path: String::from_utf8_lossy(&self.address.path).into_owned(),
                };
                return Err(self.failure(desk, missing));
            }
            missing.insert(0, name);
            let address = Address { path: above.clone(), ..self.address.clone() };
            match (Reach { address, ..self.clone() }).open(desk) {
                Ok(store) => {
                    let below = RelPath::new(&missing.join(&b'/'));
                    let below = below
                        .map_err(|error| Failure::usage(format!("{}: {error}", self.address.shown())))?;
                    return Ok((store, below));
                }
                Err(ConnectError::NoFolder { .. }) => {}
                Err(error) => return Err(self.failure(desk, error)),
            }
        }
    }

    /// Makes the folder, and connects to it.
    ///
    /// # Errors
    /// When it cannot be made, or the server cannot be reached.
    pub fn make(&self, desk: &Desk) -> Outcome<Remote> {
        match self.open(desk) {
            Ok(store) => return Ok(store),
            Err(ConnectError::NoFolder { .. }) => {}
            Err(error) => return Err(self.failure(desk, error)),
        }
        let (above, below) = self.open_above(desk)?;
        above.make_folders(&below).map_err(|error| {
            let shown = self.address.shown();
            Failure::refused(
                Cause::DestinationMissing,
                format!("the folder {shown} cannot be made: {}", error.reason()),
            )
        })?;
        self.open(desk).map_err(|error| self.failure(desk, error))
    }

    /// Why a connection came to nothing, and what to do about it.
    pub fn failure(&self, desk: &Desk, error: ConnectError) -> Failure {
        let name = if is_address(&self.kept_as) { self.address.shown() } else { self.kept_as.clone() };
        let hint = match &error {
            ConnectError::Unreachable { .. } => "Check the network, the address, and whether the server is running.".to_owned(),
            ConnectError::UnknownHost { fingerprint, .. } => format!(
                "Compare it with what the server's owner tells you; if it is the same: reedhook store check {name} --accept {fingerprint}."
            ),
            ConnectError::HostChanged { .. } => {
                "Somebody may be listening in. Only if the server's owner confirms the new key: remove that line, then check the store again.".to_owned()
            }
            ConnectError::HostRevoked { .. } => {
                "Somebody may be listening in with a stolen key. Ask the server's owner; nothing was sent.".to_owned()
            }
            ConnectError::OtherHost { .. } => {
                "Look at both once more: a slip of the fingers, or somebody else's server.".to_owned()
            }
            ConnectError::Untrusted { .. } => {
                "Give the file of the authority that signed it: reedhook store add NAME LOCATION --authorities FILE.".to_owned()
            }
            ConnectError::Login { .. } if self.secret_came_from(desk).is_some() => {
                let source = self.secret_came_from(desk).unwrap_or_default();
                format!("The secret came from {source}; put that right.")
            }
            ConnectError::Login { .. } | ConnectError::Secret { .. } if is_address(&self.kept_as) => {
                "Give it a name with `reedhook store add`, then keep its secret with `reedhook store secret`.".to_owned()
            }
            ConnectError::Login { .. } | ConnectError::Secret { .. } => {
                format!("Keep the right secret: reedhook store secret {name}.")
            }
            ConnectError::NoFolder { .. } => "The server answers; check the path.".to_owned(),
            ConnectError::Overloaded { .. } => "Run again later.".to_owned(),
            ConnectError::Unusable { .. } | ConnectError::Setup(_) => String::new(),
        };
        let message = error.to_string();
        Failure::refused(error, message).hint(hint)
    }
}

/// Tests, and people with a hurry, may make it shorter.
fn patience(desk: &Desk) -> Patience {
    let usual = Patience::default();
    let attempts = desk.world.text("REEDHOOK_ATTEMPTS").and_then(|text| text.parse().ok());
    let stop = Stop::told_by(desk.stop.clone());
    Patience { attempts: attempts.unwrap_or(usual.attempts), stop, ..usual }
}

/// The account that this runs as: who has set the variables right, else who the system says it is.
fn local_user(desk: &Desk) -> String {
    let world = &desk.world;
    world.text("USER").or_else(|| world.text("LOGNAME")).or_else(account_name).unwrap_or_default()
}

/// The name of this process's account, from the table of accounts.
fn account_name() -> Option<String> {
    let number = rustix::process::getuid().as_raw().to_string();
    let table = std::fs::read_to_string("/etc/passwd").ok()?;
    let fields = table.lines().map(|line| line.split(':').collect::<Vec<_>>());
    let own = fields.into_iter().find(|fields| fields.get(2) == Some(&number.as_str()))?;
    own.first().map(|name| (*name).to_owned())
}

/// The secret of the account at a host on the way: that of a named store at that host, else what a person says. Never that of the
/// store which is reached by it.
fn secret_of_hop(desk: &Desk, hop: &Hop) -> Result<Option<Secret>, String> {
    let is_it = |entry: &StoreEntry| {
        let Ok((address, user)) = parse(&entry.location) else { return false };
        let user = entry.reach.user.clone().or(user);
        address.scheme == "sftp"
            && (address.host.as_str(), address.port.unwrap_or(22)) == (hop.host.as_str(), hop.port)
            && user.is_none_or(|user| user == hop.user)
    };
    if let Some((name, entry)) = desk.settings.stores.iter().find(|(_, entry)| is_it(entry)) {
        let reach = Reach::of_entry(name, entry, "").map_err(|failure| failure.message)?;
        return reach.find_secret(desk)();
    }
    let kept_as = format!("hop {}@{}:{}", hop.user, hop.host, hop.port);
    if let Some(secret) = desk.secrets.found().get(&kept_as) {
        return Ok(Some(secret.clone()));
    }
    let question = format!("Secret of {} at {}, on the way", hop.user, hop.host);
    let typed = desk.asking(|| desk.secrets.ask(&question)).map_err(|failure| failure.message)?;
    let typed = typed.filter(|secret| !secret.reveal().is_empty());
    if let Some(secret) = &typed {
        desk.secrets.found().insert(kept_as, secret.clone());
    }
    Ok(typed)
}

fn look_for_secret(
    desk: &Desk,
    source: Option<&str>,
    kept_as: &str,
    question: &str,
) -> Result<Option<Secret>, String> {
    if let Some(named) = from_source(desk, source)? {
        return Ok(Some(named));
    }
    if let Some(value) = (desk.world.variable)(SECRET_VARIABLE).and_then(|value| value.into_string().ok()) {
        return Ok(Some(Secret::new(value)));
    }
    let kept = secrets::find(desk, kept_as);
    if let Ok(Some(kept)) = kept {
        return Ok(Some(kept));
    }
    let typed = desk.asking(|| desk.secrets.ask(question)).map_err(|failure| failure.message)?;
    match typed.filter(|secret| !secret.reveal().is_empty()) {
        Some(typed) => Ok(Some(typed)),
        // What could not be looked at is not missing.
        None => kept,
    }
}

/// A secret that was kept for something that is no store, such as a mail server: from where its keys say, else from what was kept
/// under its name. `REEDHOOK_SECRET` is a store's, and nobody is asked.
///
/// # Errors
/// A sentence about the source that gives none.
pub fn secret_for(desk: &Desk, source: Option<&str>, kept_as: &str) -> Result<Option<Secret>, String> {
    match from_source(desk, source)? {
        Some(secret) => Ok(Some(secret)),
        None => secrets::find(desk, kept_as),
    }
}

fn from_source(desk: &Desk, source: Option<&str>) -> Result<Option<Secret>, String> {
    match source.and_then(|source| source.split_once(' ')) {
        Some(("env", name)) => {
            let value = (desk.world.variable)(name.trim()).and_then(|value| value.into_string().ok());
            let value = value.ok_or_else(|| format!("the variable {} is not set", name.trim()))?;
            Ok(Some(Secret::new(value)))
        }
        Some(("command", line)) => {
            desk.may_command().map_err(|why| format!("its command {why}"))?;
            from_command(line).map(Some)
        }
        _ => Ok(None),
    }
}

/// The first line that a command prints.
fn from_command(line: &str) -> Result<Secret, String> {
    let output = child::command("sh").arg("-c").arg(line).stderr(std::process::Stdio::inherit()).output();
    let output = output.map_err(|error| format!("its command cannot be run: {error}"))?;
    if !output.status.success() {
        return Err(format!("its command failed ({})", output.status));
    }
    let text = String::from_utf8_lossy(&output.stdout);
    match text.lines().next().filter(|first| !first.is_empty()) {
        Some(first) => Ok(Secret::new(first)),
        None => Err("its command printed nothing".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    #[test]
    fn a_command_or_a_variable_gives_the_secret_and_neither_is_asked_for_it() {
        assert_eq!(
            from_command("echo marsh tit; echo more").map(|secret| secret.reveal().to_owned()),
            Ok("marsh tit".into())
        );
        assert!(from_command("exit 3").is_err_and(|why| why.contains("3")));
        assert!(from_command("true").is_err());
        let keys = |secret: &str| ReachKeys { secret: Some(secret.to_owned()), ..ReachKeys::default() };
        assert!(keys("env ARCHIVE").check().is_ok() && keys("command pass show").check().is_ok());
        assert!(keys("marsh").check().is_err() && keys("marsh tit").check().is_err());
        assert_eq!(format!("{:?}", Secret::new("marsh")), "(secret)");
    }
}
