//! A comparison as one page that fetches nothing: a folding tree, sorting and search, made to be handed over.
//!
//! What was found goes into the page as JSON; the page's own script, which is part of it, builds what is seen from that.

use std::io::Write;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use reedhook_core::entry::EntryKind;
use reedhook_core::walk::comparing::{Differing, Face};
use reedhook_jobs::atomic_file::{AtomicFile, Mark, failed};
use reedhook_jobs::jobfile::ONCE;
use serde_json::{Value, json};

use crate::commands::compare::finding::{Finding, compared_line, kind_word};
use crate::context::Context;
use crate::failure::Outcome;
use crate::named_file;
use crate::text::moment;

const BEFORE: &str = include_str!("page-before.html");

const AFTER: &str = include_str!("page-after.html");

pub(super) struct Page {
    file: AtomicFile,
    path: PathBuf,
}

impl Page {
    pub(super) fn open(context: &Context, path: &Path, sides: &[PathBuf]) -> Outcome<Page> {
        Ok(Page { file: named_file::begin(context, path, Mark::PAGE, sides)?, path: path.to_owned() })
    }

    pub(super) fn finish(mut self, context: &Context, findings: &[Finding<'_>]) -> Outcome<()> {
        let parts: Vec<Value> = findings.iter().map(|finding| part(context, finding)).collect();
        let made = moment(Timestamp::now().as_millisecond());
        let data = json!({"made": made, "version": env!("CARGO_PKG_VERSION"), "parts": parts});
        let data = harmless(&data.to_string());
        let written =
            [BEFORE, &data, AFTER].iter().try_for_each(|piece| self.file.write_all(piece.as_bytes()));
        written.map_err(|error| failed(&self.path, error))?;
        named_file::written(context, self.file)
    }
}

/// JSON that ends no script element, whatever names are in it.
fn harmless(json: &str) -> String {
    json.replace('<', "\\u003c").replace('\u{2028}', "\\u2028").replace('\u{2029}', "\\u2029")
}

fn part(context: &Context, finding: &Finding<'_>) -> Value {
    let home = &context.desk.home;
    let pairing = finding.pairing;
    let lefts: Vec<String> = pairing.lefts.iter().map(|place| place.shown(home)).collect();
    let rows: Vec<Value> = finding.compared.differences.iter().map(row).collect();
    let problems: Vec<Value> = finding
        .compared
        .problems
        .iter()
        .map(|problem| json!([problem.path.to_string(), problem.side.as_str(), problem.message]))
        .collect();
    json!({
        "job": (pairing.job.name != ONCE).then_some(&pairing.job.name),
        "left": lefts.join(", "),
        "right": pairing.right_place.shown(home),
        "sum": compared_line(finding),
        "rows": rows,
        "problems": problems,
    })
}

/// Path, state, kind, sizes, times as text and as seconds, and where it is at the right.
fn row(one: &Differing) -> Value {
    let size = |face: Option<Face>| face.filter(|face| face.kind != EntryKind::Folder).map(|face| face.size);
    let seconds = |face: Option<Face>| face.and_then(|face| face.modified).map(|time| time.seconds());
    let told = |seconds: Option<i64>| seconds.map(|seconds| moment(seconds.saturating_mul(1000)));
    let (left, right) = (seconds(one.left), seconds(one.right));
    json!([
        one.path.to_string(),
        one.state.as_str(),
        kind_word(one.left.or(one.right)),
        size(one.left),
        size(one.right),
        told(left),
        told(right),
        left.max(right),
        one.right_path.as_ref().map(ToString::to_string),
        one.items,
    ])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_gets_out_of_the_data() {
        let data = json!({"name": "</script><script>alert(1)</script>\u{2028}<!--"}).to_string();
        let safe = harmless(&data);
        assert!(!safe.contains('<') && !safe.contains('\u{2028}'));
        assert_eq!(serde_json::from_str::<Value>(&safe).ok(), serde_json::from_str::<Value>(&data).ok());
    }
}
