//! Completions and manual pages.

use std::io::Write;
use std::path::PathBuf;

use clap::CommandFactory;

use crate::args::Cli;
use crate::failure::{Failure, Outcome};
use crate::home::make_folder;

/// Prints a shell's completion script.
pub fn completions(shell: clap_complete::Shell) -> Outcome {
    clap_complete::generate(shell, &mut Cli::command(), "reedhook", &mut std::io::stdout());
    Ok(0)
}

/// Writes a page for each command, or the main page to standard output.
pub fn man(to: Option<PathBuf>) -> Outcome {
    let failed = |error: std::io::Error| Failure::own_files("cannot write the manual pages", error);
    match to {
        Some(folder) => {
            make_folder(&folder)?;
            clap_mangen::generate_to(Cli::command(), &folder).map_err(failed)?;
        }
        None => {
            let mut page = Vec::new();
            clap_mangen::Man::new(Cli::command()).render(&mut page).map_err(failed)?;
            // A reader that went away is no error.
            let _ = std::io::stdout().write_all(&page);
        }
    }
    Ok(0)
}
