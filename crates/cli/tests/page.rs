//! The page that a comparison is handed over as, in a browser: folding, sorting and searching work on tens of thousands of rows,
//! nothing is fetched, no name gets out of its cell, and it prints.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::Path;
use std::process::{Command, Output};

use common::{Station, number, with_tools};
use serde_json::Value;

const BROWSER: &str = "chromium-headless-shell";
const ROWS: usize = 50_000;

/// What a person does with the page, and what is seen of it then; the outcome goes where the test finds it.
const VISITOR: &str = r##"<script>
addEventListener("error", event => document.title = "broken: " + event.message);
const seen = {}, all = selector => [...document.querySelectorAll(selector)];
const rows = () => all("tbody tr").length;
const first = () => document.querySelector("tbody tr:not(.folder) td.p").textContent;
const press = text => all("button").find(button => button.textContent.startsWith(text)).click();
const timed = (name, act) => { const begun = performance.now(); act(); seen[name + "_ms"] = Math.round(performance.now() - begun); };
seen.fetched = performance.getEntriesByType("resource").length;
seen.folders = rows();
timed("open", () => document.querySelector(".fold").click());
seen.opened = rows();
document.querySelector(".fold").click();
seen.folded = rows();
const search = document.querySelector("input[type=search]");
const find = text => { search.value = text; search.dispatchEvent(new Event("input")); };
timed("search", () => find("NEEDLE"));
seen.found = all("tbody tr").map(row => row.querySelector("td.p").textContent);
find("d07 f1");
seen.two_words = rows();
find("");
press("As a list");
timed("sort", () => press("Left"));
seen.largest = first();
press("Left");
seen.smallest_is_other = first() !== seen.largest;
seen.sorted = document.querySelector("th[aria-sort=ascending],th[aria-sort=descending]").textContent.trim();
all("input[data-state]")[0].click();
seen.hidden = document.querySelector("section .note").textContent;
all("input[data-state]")[0].click();
press("As a tree");
press("Unfold all");
seen.not_drawn = document.querySelector("section .note").textContent;
timed("draw", () => press("Draw all"));
seen.drawn = rows();
seen.alerts = window.hostile === undefined;
seen.ready = document.documentElement.dataset.ready;
document.title = "done";
document.body.replaceChildren(document.createTextNode("SEEN" + JSON.stringify(seen) + "SEEN"));
</script></html>"##;

fn browse(page: &Path, more: &[&str]) -> Output {
    let mut browser = Command::new(BROWSER);
    browser.args(["--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--virtual-time-budget=60000"]);
    browser.args(more).arg(format!("file://{}", page.display())).output().unwrap()
}

fn station() -> Station {
    let station = Station::on_one_file_system();
    for at in 0..ROWS {
        let path = station.left().join(format!("d{:02}/e{}/f{at}", at % 25, at % 4));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "x".repeat(at % 97)).unwrap();
    }
    station.write("d07/the needle.csv", &"y".repeat(5000), 1_900_000_000);
    station.write("</script><img src=x onerror=hostile=1>/<b>bold</b>.csv", "z", 1_900_000_000);
    station.write("both.csv", "new", 1_900_000_100);
    fs::write(station.right().join("both.csv"), "older").unwrap();
    station
}

#[test]
fn a_page_of_fifty_thousand_rows_folds_sorts_searches_fetches_nothing_and_prints() {
    if !with_tools("the page in a browser", &[BROWSER]) {
        return;
    }
    let station = station();
    let ran = station.run(&["compare", "left", "right", "--html", "page.html", "--json"]).expect(1);
    let rows = ran.json().iter().filter(|line| line["event"] == "difference").count();
    assert!(rows > ROWS);
    let page = fs::read_to_string(station.path("page.html")).unwrap();
    for outside in ["http://", "https://", "@import", "url(", "<link", " src=", "fetch(", "XMLHttp"] {
        let data = page.find("id=\"data\"").unwrap()..page.rfind("\"use strict\"").unwrap();
        let own = [&page[..data.start], &page[data.end..]].concat();
        assert!(!own.contains(outside), "{outside}");
    }
    let visited = station.path("visited.html");
    fs::write(&visited, page.replace("</html>", VISITOR)).unwrap();
    let dumped = browse(&visited, &["--dump-dom"]);
    let text = String::from_utf8_lossy(&dumped.stdout).into_owned();
    let Some(seen) = text.split("SEEN").nth(1) else {
        panic!("{} {}", &text[..text.len().min(2000)], String::from_utf8_lossy(&dumped.stderr))
    };
    let seen: Value =
        serde_json::from_str(&seen.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&")).unwrap();
    assert_eq!(
        (number(&seen, "fetched"), seen["alerts"].as_bool(), seen["ready"].as_str()),
        (0, Some(true), Some("yes"))
    );
    let (folders, opened) = (number(&seen, "folders"), number(&seen, "opened"));
    assert!(folders < 32 && opened > folders && number(&seen, "folded") == folders, "{seen}");
    assert_eq!(seen["found"], serde_json::json!(["d07/the needle.csv"]));
    assert!(number(&seen, "two_words") > 100, "{seen}");
    assert_eq!(seen["largest"], "d07/the needle.csv");
    assert_eq!(seen["smallest_is_other"], true);
    assert!(seen["sorted"].as_str().unwrap().starts_with("Left"), "{seen}");
    assert!(seen["hidden"].as_str().unwrap().contains(" of "), "{seen}");
    assert!(seen["not_drawn"].as_str().unwrap().contains("not drawn"), "{seen}");
    assert!(number(&seen, "drawn") > ROWS as u64, "{seen}");
    // A person waits for none of it; the bounds are wide enough for any machine.
    for act in ["open_ms", "search_ms", "sort_ms"] {
        assert!(number(&seen, act) < 10_000, "{act}: {seen}");
    }
    let pdf = station.path("page.pdf");
    browse(
        &station.path("page.html"),
        &["--no-pdf-header-footer", &format!("--print-to-pdf={}", pdf.display())],
    );
    let printed = fs::read(&pdf).unwrap();
    assert!(printed.starts_with(b"%PDF") && printed.len() > 5000, "{} bytes", printed.len());
}
