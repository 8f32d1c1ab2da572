//! The conformance suite over the network, against servers of other makes.

mod servers;

use std::sync::Arc;

use reedhook_core::notes::Fleeting;
use reedhook_core::testing::conformance;
use reedhook_stores::remote::connect::{Account, Address, ConnectError};
use reedhook_stores::remote::sftp::SshSetup;
use reedhook_stores::remote::{Options, Remote};
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

#[test]
fn sftp_against_openssh() {
    let Some(server) = Server::start("sshd") else { return };
    conformance(&sftp(&server));
}
