//! The FTP stand-in. Data connections do not pass the relay: distance and drops are those of the control connection.

use std::net::SocketAddr;
use std::sync::Arc;

use async_trait::async_trait;
use libunftp::ServerBuilder;
use unftp_core::auth::{AuthenticationError, Authenticator, Credentials, Principal};
use unftp_sbe_fs::Filesystem;

use crate::settings::{Settings, StartError};

/// One account.
struct Account {
    user: String,
    secret: String,
}

impl std::fmt::Debug for Account {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "the account {}", self.user)
    }
}

#[async_trait]
impl Authenticator for Account {
    async fn authenticate(&self, user: &str, said: &Credentials) -> Result<Principal, AuthenticationError> {
        if user != self.user {
            return Err(AuthenticationError::BadUser);
        }
        if said.password.as_deref() != Some(self.secret.as_str()) {
            return Err(AuthenticationError::BadPassword);
        }
        Ok(Principal { username: user.to_owned() })
    }
}

pub(crate) fn spawn(address: SocketAddr, settings: &Settings) -> Result<(), StartError> {
    let folder = settings.folder.clone();
    Filesystem::new(&folder).map_err(StartError::Io)?;
    let files = Box::new(move || match Filesystem::new(&folder) {
        Ok(files) => files,
        // It was there when the server started; without it there is nothing to serve.
        Err(error) => panic!("the folder of the stand-in has gone: {error}"),
    });
    let account = Account { user: settings.user.clone(), secret: settings.secret.clone() };
    let server = ServerBuilder::new(files)
        .authenticator(Arc::new(account))
        .greeting("A stand-in of Reedhook")
        .passive_ports(40_000..=60_000)
        .build()
        .map_err(|error| StartError::Server(error.to_string()))?;
    tokio::spawn(async move {
        let _ = server.listen(address.to_string()).await;
    });
    Ok(())
}
