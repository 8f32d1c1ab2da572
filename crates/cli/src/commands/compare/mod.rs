//! `compare`: what is the same and what is not, between two places or the sides of a job. Nothing is touched.

mod finding;
mod page;
mod sheet;
mod text;

use std::path::PathBuf;
use std::time::Instant;

use reedhook_core::compare::Basis;
use reedhook_jobs::compare::{How, Pairing, trouble};
use reedhook_jobs::jobfile::{Job, load_job};
use reedhook_jobs::places::INVENTORY;
use serde_json::json;

use crate::args::{CompareArgs, Tolerance};
use crate::commands::compare::finding::{
    Finding, compared_line, difference_line, filtered, folder_line, misaligned,
};
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::json as lines;
use crate::text::{ago, moment};
use page::Page;
use sheet::Sheet;

/// Compares two places, or the sides of a job.
pub fn compare(context: &Context, asked: &CompareArgs) -> Outcome {
    compare_all(context, asked).map_err(trouble)
}

fn compare_all(context: &Context, asked: &CompareArgs) -> Outcome {
    let basis = match (asked.content, asked.by) {
        (true, _) => Basis::Content,
        (false, by) => by.unwrap_or(Basis::Time),
    };
    let how =
        How { basis, tolerance: asked.tolerance.map(|Tolerance(length)| length), tallies: asked.counts };
    let pairings = pairings(context, asked)?;
    // A file that cannot be written is better known before an hour of reading.
    let sides: Vec<PathBuf> = pairings.iter().flat_map(Pairing::folders).collect();
    let sheet = asked.csv.as_deref().map(|file| Sheet::open(context, asked, file, &sides));
    let mut sheet = sheet.transpose()?;
    let page = asked.html.as_deref().map(|file| Page::open(context, file, &sides)).transpose()?;
    let mut findings = Vec::new();
    let mut worst = 0;
    for pairing in &pairings {
        let begun = Instant::now();
        let mut compared = pairing.compare(&context.desk, &how)?;
        let misaligned = misaligned(context, pairing);
        if !asked.only.is_empty() {
            compared.differences.retain(|one| asked.only.contains(&one.state));
        }
        let to = (pairings.len() > 1).then(|| pairing.right_place.written.clone());
        let finding = Finding { pairing, how, compared, took: begun.elapsed(), misaligned, to };
        if context.global.json {
            print_json(&finding, asked);
        } else {
            if !findings.is_empty() {
                context.say("");
            }
            context.say(text::told(context, &finding, asked).trim_end());
            tell_notes(context, &finding)?;
        }
        if let Some(sheet) = &mut sheet {
            sheet.take(&finding, asked.all)?;
        }
        worst = worst.max(finding.code());
        findings.push(finding);
    }
    if let Some(sheet) = sheet {
        sheet.finish(context)?;
    }
    if let Some(page) = page {
        page.finish(context, &findings)?;
    }
    Ok(worst)
}

fn pairings(context: &Context, asked: &CompareArgs) -> Outcome<Vec<Pairing>> {
    let desk = &context.desk;
    match asked.places.as_slice() {
        [name] => Pairing::of_job(desk, &filtered(known_job(context, name)?, &asked.filter)?),
        [left, rights @ ..] => Pairing::of_places(desk, left, rights, asked.filter.keys()),
        [] => Err(Failure::usage("nothing to compare").hint("Name a job, or two places.")),
    }
}

/// The job of a name. Who typed one place only may have forgotten the other.
fn known_job(context: &Context, name: &str) -> Outcome<Job> {
    load_job(&context.desk.home, name).map_err(|failure| {
        let looks_like_a_place = name.contains('/')
            || name.starts_with(['@', '~', '.'])
            || name.starts_with(INVENTORY)
            || context.desk.home.expand(name).exists();
        match looks_like_a_place {
            true => Failure::usage(format!("\"{name}\" is one place; comparing takes two, or a job"))
                .hint(format!("Write: reedhook compare {name} OTHER-PLACE")),
            false => failure,
        }
    })
}

fn tell_notes(context: &Context, finding: &Finding<'_>) -> Outcome<()> {
    if let Some(found) = &finding.misaligned {
        context.warn(found.sentence(["left", "right"]));
    }
    if finding.how.basis == Basis::Time && finding.pairing.is_timeless() {
        context.warn(
            "one of the two keeps no times of files, so only sizes were compared; --content reads them",
        );
    }
    if !finding.pairing.has_inventory() {
        return Ok(());
    }
    for one in finding.pairing.of_then(&context.desk)? {
        let (name, then) = (&one.about.name, one.about.taken_ms);
        let partly = if one.whole { "" } else { "; it knows only what runs have seen there" };
        let ago = ago(then, crate::clock::now_ms());
        context.warn(format!("the inventory {name} tells how it was {}, {ago}{partly}", moment(then)));
    }
    Ok(())
}

fn print_json(finding: &Finding<'_>, asked: &CompareArgs) {
    let mut text = Vec::new();
    for one in &finding.compared.differences {
        let mut line = difference_line(one);
        line.extend(finding.to.as_ref().map(|to| ("to".to_owned(), json!(to))));
        lines::append(&mut text, &line);
    }
    for problem in &finding.compared.problems {
        lines::problem(&mut text, problem);
    }
    if asked.counts {
        for (path, tally) in finding.folders(asked.all) {
            lines::append(&mut text, &folder_line(path, tally));
        }
    }
    print_lines(&text);
    lines::print(&compared_line(finding).into());
}

/// Prints lines that are ready; the first of all says the version.
fn print_lines(text: &[u8]) {
    if !text.is_empty() {
        lines::print_line(text);
    }
}
