//! Programs that Reedhook starts. None of them gets to see its secrets.

use std::ffi::OsStr;
use std::process::Command;

/// The variables of the environment in which secrets of Reedhook's own may be.
pub const SECRET_VARIABLES: [&str; 2] = ["REEDHOOK_SECRET", "REEDHOOK_PASSPHRASE"];

/// A program to start, with this one's environment less the secrets in it.
pub fn command(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(program);
    for name in SECRET_VARIABLES {
        command.env_remove(name);
    }
    command
}
