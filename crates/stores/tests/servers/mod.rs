//! Real servers for tests, started by `scripts/test-server` over a folder of their own and stopped when dropped.
#![allow(dead_code, reason = "each program uses its part of this")]
#![allow(clippy::print_stdout, reason = "a skipped test says so")]

use std::net::TcpStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use reedhook_testing::signals::{self, Signal};

pub struct Server {
    child: Child,
    folder: tempfile::TempDir,
    pub port: u16,
}

/// Where `scripts/install-test-tools` puts the emulator of an object store.
const OBJECTS: &str = "/opt/reedhook-test/bin/moto_server";

/// And a mail server.
const MAILS: &str = "/opt/reedhook-test/bin/aiosmtpd";

/// What the script's accounts are called, and their password.
pub const USER: &str = "ranger";
pub const PASSWORD: &str = "marsh tit";

impl Server {
    /// Starts a server of a kind that the script knows. Without the program it is skipped, unless everything is required.
    pub fn start(kind: &str) -> Option<Server> {
        Server::start_in(kind, None)
    }

    /// The same, with its files below a folder of one's own choice.
    pub fn start_in(kind: &str, within: Option<&Path>) -> Option<Server> {
        let program = match kind {
            "sshd" | "sshd-one" | "sshd-wordy" => "/usr/sbin/sshd",
            "apache" | "apache-tls" => "/usr/sbin/apache2",
            "proftpd" | "proftpd-plain" | "proftpd-few" | "proftpd-tls" => "/usr/sbin/proftpd",
            "objects" => OBJECTS,
            "smtp" | "smtps" | "smtp-starttls" => MAILS,
            other => other,
        };
        if program.starts_with('/') && !Path::new(program).exists() {
            assert!(std::env::var_os("REEDHOOK_REQUIRE_ALL").is_none(), "{program} is not installed");
            println!("skipped: {program} is not installed (scripts/install-test-tools)");
            return None;
        }
        let temporary = std::env::temp_dir();
        let folder = tempfile::tempdir_in(within.unwrap_or(&temporary)).expect("a folder");
        let port = free_port();
        let above = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors();
        let script = above.map(|folder| folder.join("scripts/test-server")).find(|script| script.is_file());
        let script = script.expect("the script that starts servers");
        let child = Command::new(script)
            .args([kind, folder.path().to_str().expect("a plain path"), &port.to_string()])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect("the script runs");
        let server = Server { child, folder, port };
        server.wait();
        Some(server)
    }

    fn wait(&self) {
        let begun = Instant::now();
        // Who knocks at a port of this machine for long enough may reach nobody but himself.
        let reached = |stream: TcpStream| stream.local_addr().ok() != stream.peer_addr().ok();
        while !TcpStream::connect(("127.0.0.1", self.port)).is_ok_and(reached) {
            assert!(
                begun.elapsed() < Duration::from_secs(30),
                "the server does not start: {:?}",
                self.folder
            );
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The folder that it serves.
    pub fn root(&self) -> PathBuf {
        self.folder.path().join("root")
    }

    /// A file that it made beside it.
    pub fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        // The whole group: servers have children.
        signals::send_to_group(self.child.id(), Signal::KILL);
        let _ = self.child.wait();
    }
}

/// A port that was free a moment ago.
pub fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address").port()
}
