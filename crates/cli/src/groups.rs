//! The commands in the order of the technician's round, for whoever has to find one: in `--help`, in the manual and in completions.
//!
//! The command-line crate knows one flat list of commands; this module gives each its place in the round and writes the list in groups.

use clap::{Command, CommandFactory};
use clap_mangen::Man;
use clap_mangen::roff::{Roff, bold, roman};

use crate::args::Cli;
use crate::text::wrapped;

/// The steps of the round, each with its commands.
const GROUPS: [(&str, &[&str]); 9] = [
    ("Set up", &["job"]),
    ("Servers and drives", &["store", "drives", "inventory"]),
    ("Look", &["preview", "review", "compare", "why"]),
    ("Run", &["run", "once", "conflicts", "settle"]),
    ("By itself", &["when", "tend", "notify"]),
    ("Look up", &["status", "board", "report", "history", "verify", "metrics"]),
    ("Bring back", &["restore", "kept", "undo"]),
    ("Try", &["demo", "standin"]),
    ("Reedhook itself", &["doctor", "completions", "man"]),
];

/// Help is no wider than this.
const WIDEST: usize = 100;

/// The command line, with its commands in groups.
pub fn command() -> Command {
    let command = Cli::command();
    let heading = command.get_styles().get_header();
    let template = format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{}{heading}Options:{heading:#}\n{{options}}{{after-help}}",
        listed(&command)
    );
    command.help_template(template)
}

/// The same for completions: each command's description begins with its group.
pub fn for_completions() -> Command {
    let mut command = Cli::command();
    for (name, step) in GROUPS.iter().flat_map(|(step, names)| names.iter().map(move |name| (*name, *step))) {
        command = command.mut_subcommand(name, |command| {
            let about = about(&command);
            command.about(format!("{step}: {about}"))
        });
    }
    command
}

fn about(command: &Command) -> String {
    command.get_about().map(ToString::to_string).unwrap_or_default()
}

/// The groups of commands as a text with the headings of the help's own style.
fn listed(command: &Command) -> String {
    let (heading, literal) = (command.get_styles().get_header(), command.get_styles().get_literal());
    let longest = GROUPS.iter().flat_map(|(_, names)| names.iter()).map(|name| name.len()).max().unwrap_or(0);
    let terminal = console::Term::stdout();
    let columns =
        terminal.size_checked().map_or(WIDEST, |(_, columns)| usize::from(columns).clamp(40, WIDEST));
    let mut text = String::new();
    for (step, names) in GROUPS {
        text.push_str(&format!("{heading}{step}:{heading:#}\n"));
        for found in names.iter().filter_map(|name| command.find_subcommand(name)) {
            let name = format!("{literal}{}{literal:#}", found.get_name());
            let gap = " ".repeat(longest - found.get_name().len() + 2);
            let lines = wrapped(&about(found), columns - longest - 4);
            let indent = format!("\n{}", " ".repeat(longest + 4));
            text.push_str(&format!("  {name}{gap}{}\n", lines.join(&indent)));
        }
        text.push('\n');
    }
    text
}

/// The main page of the manual.
///
/// # Errors
/// When it cannot be written.
pub fn write_page(to: &mut dyn std::io::Write) -> std::io::Result<()> {
    let page = Man::new(Cli::command());
    page.render_title(to)?;
    page.render_name_section(to)?;
    page.render_synopsis_section(to)?;
    page.render_description_section(to)?;
    let command = Cli::command();
    let mut roff = Roff::new();
    for (step, names) in GROUPS {
        roff.control("SH", [step]);
        for found in names.iter().filter_map(|name| command.find_subcommand(name)) {
            roff.control("TP", []);
            roff.text([bold(format!("reedhook-{}(1)", found.get_name()))]);
            roff.text([roman(about(found))]);
        }
    }
    roff.to_writer(to)?;
    page.render_options_section(to)?;
    page.render_extra_section(to)?;
    page.render_version_section(to)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn every_command_has_one_place_in_the_round() {
        let grouped: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        let once: BTreeSet<&str> = grouped.iter().copied().collect();
        assert_eq!(grouped.len(), once.len(), "none stands twice");
        let command = Cli::command();
        let all: BTreeSet<&str> = command.get_subcommands().map(Command::get_name).collect();
        // Without their feature there are no stand-ins.
        let left_out: Vec<_> = once.symmetric_difference(&all).filter(|name| **name != "standin").collect();
        assert!(left_out.is_empty(), "{left_out:?}");
    }
}
