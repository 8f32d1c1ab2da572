//! The conformance suite over the network, against servers of other makes.

mod servers;

use std::sync::Arc;
use std::time::Duration;

use reedhook_core::notes::{Fleeting, Notes};
use reedhook_core::path::RelPath;
use reedhook_core::store::{Attributes, Store};
use reedhook_standins::{Behaviour, Kind, Settings, Standin};
use reedhook_stores::remote::connect::{Account, Address, ConnectError, FindHopSecret, Secret, Trust};
use reedhook_stores::remote::object::ObjectSetup;
use reedhook_stores::remote::patience::Patience;
use reedhook_stores::remote::sftp::SshSetup;
use reedhook_stores::remote::{Options, Remote};
use reedhook_testing::conformance;
use reedhook_testing::signals::{self, Signal};
use servers::Server;

fn sftp_setup(server: &Server) -> SshSetup {
    SshSetup {
        key: Some(server.file("key")),
        known_hosts: Some(server.file("known_hosts")),
        local_user: std::env::var("USER").unwrap_or_else(|_| "root".to_owned()),
        ..SshSetup::default()
    }
}

fn sftp_address(server: &Server) -> Address {
    let path = server.root().to_str().expect("a plain path").as_bytes().to_vec();
    Address { scheme: "sftp".to_owned(), host: "127.0.0.1".to_owned(), port: Some(server.port), path }
}

fn sftp(server: &Server) -> Remote {
    let connect = |accept| {
        let options = Options { ssh: SshSetup { accept, ..sftp_setup(server) }, ..Options::default() };
        Remote::open(sftp_address(server), Account::anonymous(), &options, Arc::new(Fleeting::default()))
    };
    match connect(None) {
        Ok(store) => store,
        Err(ConnectError::UnknownHost { fingerprint, .. }) => {
            connect(Some(fingerprint)).expect("a connection")
        }
        Err(other) => panic!("{other}"),
    }
}

fn account() -> Account {
    Account {
        user: Some(servers::USER.to_owned()),
        secret: Arc::new(|| Ok(Some(Secret::new(servers::PASSWORD)))),
        hops: Arc::new(|_| Ok(None)),
    }
}

fn over_http(server: &Server, scheme: &str) -> Remote {
    let host = "localhost".to_owned();
    let address =
        Address { scheme: scheme.to_owned(), host, port: Some(server.port), path: b"/files".to_vec() };
    let trust = Trust { authorities: Some(server.file("authority.pem")).filter(|file| file.exists()) };
    let options = Options { trust, ..Options::default() };
    Remote::open(address, account(), &options, Arc::new(Fleeting::default())).expect("a connection")
}

#[test]
fn webdav_against_apache() {
    let Some(server) = Server::start("apache") else { return };
    conformance(&over_http(&server, "dav"));
}

#[test]
fn webdav_over_tls_against_apache() {
    let Some(server) = Server::start("apache-tls") else { return };
    conformance(&over_http(&server, "davs"));
}

fn over_ftp(server: &Server, scheme: &str) -> Remote {
    over_ftp_noting(server, scheme, Arc::new(Fleeting::default()))
}

fn over_ftp_noting(server: &Server, scheme: &str, notes: Arc<dyn Notes>) -> Remote {
    let host = "localhost".to_owned();
    let address = Address { scheme: scheme.to_owned(), host, port: Some(server.port), path: b"/".to_vec() };
    let trust = Trust { authorities: Some(server.file("authority.pem")).filter(|file| file.exists()) };
    let options = Options { trust, ..Options::default() };
    Remote::open(address, account(), &options, notes).expect("a connection")
}

#[test]
fn ftp_for_people_against_proftpd() {
    let Some(server) = Server::start("proftpd-plain") else { return };
    conformance(&over_ftp(&server, "ftp"));
}

/// A version whose name other content may have got too is young until it was read after that.
#[test]
fn a_version_is_young_until_it_was_proved_after_its_step() {
    let Some(server) = Server::start("proftpd-plain") else { return };
    let notes = Arc::new(Fleeting::default());
    let store = over_ftp_noting(&server, "ftp", notes.clone());
    let path = RelPath::new(b"heron.csv").expect("a path");
    reedhook_testing::put(&store, "heron.csv", b"heron,3", 1_900_000_000);
    let shown = || store.stat(&path).expect("an answer").expect("a file");
    assert!(shown().is_young());
    store.proved(&path, &shown());
    assert!(shown().is_young(), "the minute is not over");
    let mut note = notes.of(&path).expect("a note");
    note.tag = format!("{}~1000", note.tag.split('~').next().unwrap_or_default());
    notes.note(&path, Some(note));
    assert!(shown().is_young(), "nobody has read it since");
    store.proved(&path, &shown());
    assert!(!shown().is_young() && !shown().is_arrival());
    assert_eq!(shown().modified.map(reedhook_core::entry::Stamp::seconds), Some(1_900_000_000));
}

#[test]
fn ftp_against_proftpd() {
    let Some(server) = Server::start("proftpd") else { return };
    conformance(&over_ftp(&server, "ftp"));
}

#[test]
fn ftp_over_tls_against_proftpd() {
    let Some(server) = Server::start("proftpd-tls") else { return };
    conformance(&over_ftp(&server, "ftps"));
}

fn over_s3(server: &Server) -> Remote {
    let host = "localhost".to_owned();
    let path = b"/archive/below it".to_vec();
    let address = Address { scheme: "s3".to_owned(), host, port: Some(server.port), path };
    let objects = ObjectSetup { plain: true, ..ObjectSetup::default() };
    let options = Options { objects, ..Options::default() };
    Remote::open(address, account(), &options, Arc::new(Fleeting::default())).expect("a connection")
}

#[test]
fn objects_against_an_emulator() {
    let Some(server) = Server::start("objects") else { return };
    let made = std::process::Command::new("curl")
        .args(["-s", "-S", "-X", "PUT", &format!("http://localhost:{}/archive", server.port)])
        .status();
    assert!(made.is_ok_and(|status| status.success()), "a bucket");
    conformance(&over_s3(&server));
    times_given_one_right_after_another_are_seen(&over_s3(&server), &over_s3(&server));
}

/// Two machines, each with notes of its own: what one wrote, the other gives another time at once, so with the same content's tag.
fn times_given_one_right_after_another_are_seen(here: &Remote, there: &Remote) {
    let path = RelPath::new(b"heron.csv").expect("a path");
    let seen = |store: &Remote| store.stat(&path).expect("an answer").expect("a file");
    for round in 0..3 {
        let lock = here.lock().expect("nobody else's");
        reedhook_testing::put(here, "heron.csv", b"heron,3", 1_900_000_000 + round);
        drop(lock);
        let lock = there.lock().expect("nobody else's");
        let modified = Some(reedhook_core::entry::Stamp::new(1_900_000_500 + round, 0));
        let attributes = Attributes { modified, ..Attributes::default() };
        there.set_attributes(&path, &seen(there), &attributes).expect("another time");
        drop(lock);
        assert_eq!(seen(here).modified, modified);
    }
}

#[test]
fn sftp_against_openssh() {
    let Some(server) = Server::start("sshd") else { return };
    conformance(&sftp(&server));
}

/// A stand-in over a fresh folder, and a store of what it serves.
fn standin(kind: Kind, behaviour: Behaviour) -> (Standin, tempfile::TempDir, Remote) {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::create_dir_all(folder.path().join("served/archive")).expect("a folder");
    let settings = Settings {
        folder: folder.path().join("served"),
        port: 0,
        user: servers::USER.to_owned(),
        secret: servers::PASSWORD.to_owned(),
        behaviour,
    };
    let standin = Standin::start(kind, settings).expect("a stand-in");
    let store = at_standin(kind, &standin, Arc::new(Fleeting::default()));
    (standin, folder, store)
}

fn at_standin(kind: Kind, standin: &Standin, notes: Arc<dyn Notes>) -> Remote {
    let path = b"/archive".to_vec();
    let address = Address {
        scheme: kind.scheme().to_owned(),
        host: "127.0.0.1".to_owned(),
        port: Some(standin.address.port()),
        path,
    };
    let known_hosts = std::env::temp_dir().join(format!("reedhook-known-{}", standin.address.port()));
    let _ = std::fs::remove_file(&known_hosts);
    let ssh = SshSetup {
        accept: standin.fingerprint.clone(),
        known_hosts: Some(known_hosts),
        ..SshSetup::default()
    };
    let objects = ObjectSetup { plain: true, ..ObjectSetup::default() };
    let patience = Patience {
        attempts: 8,
        first: Duration::from_millis(20),
        longest: Duration::from_millis(200),
        // Long enough for a machine that is busy with other tests: who is alive here writes several times within it.
        watch: Duration::from_secs(6),
        ..Patience::default()
    };
    let options = Options { ssh, objects, patience, ..Options::default() };
    Remote::open(address, account(), &options, notes).expect("a connection")
}

/// Clocks are wrong: whether another machine's lock is alive shows in whether it is written anew, and in nothing else.
#[test]
fn a_lock_is_judged_by_no_other_machine_s_clock() {
    use std::sync::atomic::{AtomicBool, Ordering};
    let judge = |kind: Kind| {
        let (_standin, _folder, other) = standin(kind, Behaviour::default());
        let held = other.lock().expect("a lock");
        // The same lock, as another machine would have written it.
        let note = RelPath::new(b".reedhook/busy/holder").expect("a path");
        let now = || jiff::Timestamp::now().as_second();
        let write = |ahead: i64| {
            let text = format!("elsewhere 7 {} hide-3 {}\n", now() + ahead, now() - 1000);
            reedhook_core::store::StoreExt::replace_small(&other, &note, text.as_bytes()).expect("a note");
        };
        // Six minutes behind, and alive.
        let over = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                while !over.load(Ordering::Relaxed) {
                    write(-360);
                    std::thread::sleep(Duration::from_millis(500));
                }
            });
            std::thread::sleep(Duration::from_millis(300));
            let refused = other.lock().err().expect("it is held");
            over.store(true, Ordering::Relaxed);
            let why = refused.cause.map(|cause| cause.to_string()).unwrap_or_default();
            // On a busy machine the lock's own keeper may have written last.
            assert!(why.contains("has it since"), "{kind:?}: {why}");
        });
        // Ahead, and dead: nobody writes it anew.
        write(3600);
        drop(other.lock().expect("the dead hold nothing"));
        drop(held);
    };
    std::thread::scope(|scope| {
        for kind in [Kind::WebDav, Kind::Sftp, Kind::Ftp, Kind::Object] {
            scope.spawn(move || judge(kind));
        }
    });
}

#[test]
fn every_standin_passes_the_suite() {
    for kind in [Kind::WebDav, Kind::Sftp, Kind::Object, Kind::Ftp] {
        println!("{kind:?}");
        let (_standin, _folder, store) = standin(kind, Behaviour::default());
        conformance(&store);
    }
}

/// Runs a tool of OpenSSH's and returns what it printed.
fn ssh_tool(program: &str, words: &[&str], agent: Option<&std::path::Path>) -> String {
    let mut command = std::process::Command::new(program);
    command.args(words);
    if let Some(agent) = agent {
        command.env("SSH_AUTH_SOCK", agent);
    }
    let output = command.output().expect("OpenSSH's tools are there");
    assert!(output.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Two real servers: what belongs to the far one, a password and a key, is offered to it and never to the host on the way.
#[test]
fn sftp_offers_a_host_on_the_way_nothing_of_what_lies_behind_it() {
    let (Some(gate), Some(far)) = (Server::start("sshd-wordy"), Server::start("sshd-wordy")) else { return };
    let user_files = tempfile::tempdir().expect("a folder");
    let known: String = [&gate, &far]
        .map(|server| {
            let key = std::fs::read_to_string(server.file("host_key.pub")).expect("the host's key");
            format!("[127.0.0.1]:{} {key}", server.port)
        })
        .concat();
    std::fs::write(user_files.path().join("known_hosts"), known).expect("a file");
    let fingerprint = |server: &Server| {
        let file = server.file("key.pub");
        let told = ssh_tool("ssh-keygen", &["-l", "-f", file.to_str().expect("a plain path")], None);
        told.split(' ').nth(1).expect("a fingerprint").to_owned()
    };
    let go = |identity: &str, hops: FindHopSecret, key: Option<std::path::PathBuf>| {
        let config = format!(
            "Host gate\n HostName 127.0.0.1\n Port {}\n{identity}Host far\n HostName 127.0.0.1\n Port {}\n ProxyJump gate\n",
            gate.port, far.port
        );
        std::fs::write(user_files.path().join("config"), config).expect("a file");
        let ssh = SshSetup {
            folder: Some(user_files.path().to_owned()),
            key,
            known_hosts: None,
            ..sftp_setup(&far)
        };
        let address = Address { host: "far".to_owned(), port: None, ..sftp_address(&far) };
        let account = Account { user: None, hops, ..account() };
        Remote::open(address, account, &Options { ssh, ..Options::default() }, Arc::new(Fleeting::default()))
    };
    let log =
        |server: &Server| std::fs::read_to_string(server.file("run/sshd.log")).expect("the server's log");
    let nothing = || -> FindHopSecret { Arc::new(|_| Ok(None)) };
    let own = format!(" IdentityFile {}\n", gate.file("key").display());

    // A host on the way that would ask for anything, and gets nothing: the way ends there.
    let refused = go("", nothing(), Some(far.file("key"))).err();
    let Some(ConnectError::Login { tried, .. }) = refused else { panic!("{refused:?}") };
    assert_eq!(tried, "nothing: no agent, no key, no password");
    // With a key of its own it leads on, to a server that gets its own key.
    let store = go(&own, nothing(), Some(far.file("key"))).expect("by way of the gate, with two keys");
    assert!(store.list(&RelPath::root()).expect("a listing").entries.is_empty());
    drop(store);
    // To a server without a key its password is offered, and it alone.
    let refused = go(&own, nothing(), None).err();
    assert!(
        matches!(&refused, Some(ConnectError::Login { tried, .. }) if tried.contains("password")),
        "{refused:?}"
    );
    for said in [log(&gate), log(&far)] {
        assert!(said.contains("Accepted publickey"), "the log of a server tells what it was offered: {said}");
    }
    assert!(log(&far).contains("Failed password"), "{}", log(&far));
    assert!(!log(&gate).contains("Failed password"), "{}", log(&gate));
    assert!(
        log(&gate).contains(&fingerprint(&gate)) && !log(&gate).contains(&fingerprint(&far)),
        "{}",
        log(&gate)
    );

    // A secret of its own reaches it.
    let asked = Arc::new(std::sync::Mutex::new(Vec::new()));
    let seen = asked.clone();
    let hops: FindHopSecret = Arc::new(move |hop| {
        seen.lock().expect("no thread failed").push((hop.host.clone(), hop.port));
        Ok(Some(Secret::new("reed bunting")))
    });
    assert!(matches!(go("", hops, None).err(), Some(ConnectError::Login { .. })));
    assert_eq!(*asked.lock().expect("no thread failed"), [("gate".to_owned(), gate.port)]);
    assert!(log(&gate).contains("Failed password"), "{}", log(&gate));
}

/// The agent's keys, a known host whose name is hashed, and a way by another host, all from the user's own files.
#[test]
fn sftp_uses_the_agent_hashed_hosts_and_a_jump_host() {
    let Some(server) = Server::start("sshd") else { return };
    let user_files = tempfile::tempdir().expect("a folder");
    let file = |name: &str| user_files.path().join(name).to_str().expect("a plain path").to_owned();
    let key = std::fs::read_to_string(server.file("host_key.pub")).expect("the host's key");
    std::fs::write(file("known_hosts"), format!("[127.0.0.1]:{0} {key}[localhost]:{0} {key}", server.port))
        .expect("a file");
    ssh_tool("ssh-keygen", &["-q", "-H", "-f", &file("known_hosts")], None);
    let hashed = std::fs::read_to_string(file("known_hosts")).expect("a file");
    assert!(hashed.starts_with("|1|"), "{hashed}");
    let config = format!("Host far\n HostName 127.0.0.1\n Port {0}\n ProxyJump localhost:{0}\n", server.port);
    std::fs::write(file("config"), config).expect("a file");
    let socket = user_files.path().join("agent");
    let told = ssh_tool("ssh-agent", &["-a", &file("agent")], None);
    let process =
        told.split("SSH_AGENT_PID=").nth(1).and_then(|rest| rest.split(';').next()).expect("its number");
    let connect = |host: &str, port, agent| {
        let ssh = SshSetup {
            folder: Some(user_files.path().to_owned()),
            agent,
            key: None,
            known_hosts: None,
            ..sftp_setup(&server)
        };
        let address = Address { host: host.to_owned(), port, ..sftp_address(&server) };
        Remote::open(
            address,
            Account::anonymous(),
            &Options { ssh, ..Options::default() },
            Arc::new(Fleeting::default()),
        )
    };
    let refused = connect("127.0.0.1", Some(server.port), None).err();
    assert!(matches!(refused, Some(ConnectError::Login { .. })), "{refused:?}");
    let empty = connect("127.0.0.1", Some(server.port), Some(socket.clone())).err();
    assert!(matches!(empty, Some(ConnectError::Login { .. })), "{empty:?}");
    let private = server.file("key");
    ssh_tool("ssh-add", &["-q", private.to_str().expect("a plain path")], Some(&socket));
    connect("127.0.0.1", Some(server.port), Some(socket.clone())).expect("the agent's key opens it");
    let far = connect("far", None, Some(socket)).expect("by way of the jump host");
    assert!(far.list(&RelPath::root()).expect("a listing").entries.is_empty());
    // Another key under a known name is no stranger but a warning.
    let other = ssh_tool("ssh-keygen", &["-q", "-t", "ed25519", "-N", "", "-f", &file("other")], None);
    let other = std::fs::read_to_string(file("other.pub"))
        .map(|key| format!("[127.0.0.1]:{} {key}{other}", server.port));
    std::fs::write(file("known_hosts"), other.expect("a key")).expect("a file");
    let changed = connect("127.0.0.1", Some(server.port), None).err();
    assert!(matches!(changed, Some(ConnectError::HostChanged { line: 1, .. })), "{changed:?}");
    signals::send(process.parse().expect("a number"), Signal::TERM);
}
