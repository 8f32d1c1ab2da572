//! Completions and manual pages.

use std::path::PathBuf;

use clap::CommandFactory;
use reedhook_jobs::atomic_file::{Mark, Replace, write_whole};

use crate::args::Cli;
use crate::failure::{Failure, Outcome};
use crate::groups;

/// Prints a shell's completion script.
pub fn completions(shell: clap_complete::Shell) -> Outcome {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut groups::for_completions(), "reedhook", &mut script);
    crate::output::raw(&script);
    Ok(0)
}

/// Writes a page for each command, or the main page to standard output.
pub fn man(to: Option<PathBuf>) -> Outcome {
    let failed = |error: std::io::Error| Failure::usage(format!("cannot write the manual pages: {error}"));
    match to {
        Some(folder) => {
            std::fs::create_dir_all(&folder).map_err(failed)?;
            clap_mangen::generate_to(Cli::command(), &folder).map_err(failed)?;
            let mut page = Vec::new();
            groups::write_page(&mut page).map_err(failed)?;
            write_whole(&folder.join("reedhook.1"), &page, Mark::Holds(".TH reedhook"), Replace::Ours)?;
        }
        None => {
            let mut page = Vec::new();
            groups::write_page(&mut page).map_err(failed)?;
            crate::output::raw(&page);
        }
    }
    Ok(0)
}
