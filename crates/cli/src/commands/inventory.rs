//! `inventory`: what stores held when they were last seen, to be searched while they are away.

use std::ops::ControlFlow;
use std::path::Path;

use reedhook_core::entry::{EntryKind, Special};
use reedhook_core::foreign::cell;
use reedhook_core::path::RelPath;
use reedhook_jobs::atomic_file::open_plain;
use reedhook_jobs::inventory::sightings::{self, Sighting};
use reedhook_jobs::inventory::{self, Bounds, Branch, Query, Took, branches, copies, is_connected};
use reedhook_jobs::places::{Located, typed_path};
use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, Inventory, InventoryMeta};
use serde_json::{Value, json};

use crate::args::{FindArgs, InventoryCommand, KindWord, Range};
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::text::{Align, BOLD, CARE, Columns, ago, bytes, count, duration, grouped, moment, styled};
use crate::{ask, json as lines, output};

/// So many entries of each inventory are listed without being asked for all.
const SHOWN: usize = 50;

/// Of so many of each inventory it is looked where else they are.
const COMPARED: usize = 100_000;

/// Carries out `inventory`.
pub fn inventory(context: &Context, command: InventoryCommand) -> Outcome {
    match command {
        InventoryCommand::Take { place, name } => take(context, &place, name.as_deref()),
        InventoryCommand::List => list(context),
        InventoryCommand::Find(asked) => find(context, &asked),
        InventoryCommand::Show { name, path } => show(context, &name, path.as_deref()),
        InventoryCommand::Drop { name } => drop_it(context, &name),
        InventoryCommand::Import { file, name, label } => import(context, &file, &name, &label),
        InventoryCommand::Export { name, csv, csv_raw } => export(context, &name, (csv, csv_raw)),
    }
}

fn take(context: &Context, place: &str, name: Option<&str>) -> Outcome {
    let took = inventory::take(&context.desk, place, name)?;
    Ok(told(context, &took))
}

fn import(context: &Context, file: &Path, name: &str, label: &str) -> Outcome {
    let read = open_plain(file).and_then(|mut file| {
        let mut text = Vec::new();
        std::io::Read::read_to_end(&mut file, &mut text).map(|_| text)
    });
    let text = read.map_err(|error| {
        Failure::usage(format!("{} cannot be read: {error}", file.display())).hint("Check the path.")
    })?;
    let (took, strange) = inventory::import(&context.desk, &text, name, label)?;
    let code = told(context, &took);
    let Some((number, first)) = strange else { return Ok(code) };
    let lines = count(number, "line was", "lines were");
    context.warn(format!("{lines} not understood, the first is line {first}"));
    Ok(1)
}

/// Tells what came of it, and gives the exit code.
fn told(context: &Context, took: &Took) -> u8 {
    let taken = &took.taken;
    if context.global.json {
        for error in &took.problems {
            let keys = lines::path_object(&error.path);
            let mut line = lines::object(json!({"event": "problem", "code": error.kind.code()}));
            line.extend(keys);
            line.insert("message".to_owned(), json!(error.reason()));
            lines::print(&line.into());
        }
        lines::print(
            &json!({"event": "taken", "name": took.name, "entries": taken.entries, "bytes": taken.bytes,
            "changed": taken.changed, "problems": took.problems.len(), "seconds": lines::seconds(took.elapsed)}),
        );
        return u8::from(!took.problems.is_empty());
    }
    let changed = match taken.changed {
        0 => "nothing in it has changed".to_owned(),
        number => format!("{} written", count(number, "folder", "folders")),
    };
    context.say(format!(
        "{}: {}, {} in {}; {changed}.",
        styled(BOLD, &took.name),
        count(taken.entries, "entry", "entries"),
        bytes(taken.bytes),
        duration(took.elapsed)
    ));
    for error in took.problems.iter().take(10) {
        context.warn(format!("{}: {}", error.path, error.reason()));
    }
    if took.problems.len() > 10 {
        context.warn(format!("… and {} more that could not be looked at", took.problems.len() - 10));
    }
    u8::from(!took.problems.is_empty())
}

fn list(context: &Context) -> Outcome {
    let all = inventory::open(&context.desk.home)?;
    let known = all.list().map_err(|error| failed(context, error))?;
    if known.is_empty() && !context.global.json {
        context.say("There is no inventory yet. Take one with `reedhook inventory take PLACE`.");
        return Ok(0);
    }
    let now = crate::clock::now_ms();
    let mut table =
        Columns::new(&[Align::Left, Align::Right, Align::Right, Align::Left, Align::Left, Align::Left]);
    table.heading(&["inventory", "entries", "bytes", "last seen", "", "of"]);
    for one in &known {
        let connected = is_connected(&context.desk, one);
        if context.global.json {
            lines::print(
                &json!({"event": "inventory", "name": one.about.name, "entries": one.entries, "bytes": one.bytes,
                "taken": lines::time(one.about.taken_ms), "connected": connected, "place": one.about.place,
                "location": one.about.location, "label": one.about.label, "whole": one.whole}),
            );
            continue;
        }
        let there = if connected && !is_at_a_server(one) { "" } else { there_words(connected, one) };
        let partly = if one.whole { "" } else { "in part" };
        let comma = if there.is_empty() || partly.is_empty() { "" } else { ", " };
        let style = if connected { anstyle::Style::new() } else { CARE };
        let taken = format!("{}  {}", moment(one.about.taken_ms), ago(one.about.taken_ms, now));
        table.styled_row(
            style,
            vec![
                one.about.name.clone(),
                grouped(one.entries),
                bytes(one.bytes),
                taken,
                format!("{there}{comma}{partly}"),
                place_words(one),
            ],
        );
    }
    if !context.global.json {
        context.say(table.render(0).trim_end());
        if known.iter().any(|one| !one.whole) {
            context.say(
                "\nIn part: only what runs have seen there. `reedhook inventory take` looks at everything.",
            );
        }
    }
    Ok(0)
}

fn is_at_a_server(one: &Inventory) -> bool {
    one.about.location.contains("://")
}

fn there_words(connected: bool, one: &Inventory) -> &'static str {
    match connected {
        true if is_at_a_server(one) => "at a server",
        true => "connected",
        false => "not connected",
    }
}

fn place_words(one: &Inventory) -> String {
    if one.about.place.is_empty() {
        return match one.about.label.is_empty() {
            true => "a listing".to_owned(),
            false => format!("a listing of drive {}", one.about.label),
        };
    }
    match one.about.label.is_empty() {
        true => one.about.place.clone(),
        false => format!("{} (drive {})", one.about.place, one.about.label),
    }
}

fn failed(context: &Context, error: RecordError) -> Failure {
    inventory::failed(&context.desk.home, error)
}

fn named(context: &Context, all: &Inventories, name: &str) -> Outcome<Inventory> {
    inventory::named(&context.desk.home, all, name)
}

/// Something that was found.
#[derive(Clone)]
struct FoundEntry {
    inventory: usize,
    path: Vec<u8>,
    meta: InventoryMeta,
}

impl FoundEntry {
    fn file<'f>(&'f self, wanted: &'f [Inventory]) -> (&'f str, &'f [u8], &'f InventoryMeta) {
        (&wanted[self.inventory].about.name, &self.path, &self.meta)
    }
}

fn find(context: &Context, asked: &FindArgs) -> Outcome {
    let query = query(context, asked);
    if query.is_any() && !asked.alone {
        return Err(Failure::usage("give a word, or a filter: --size, --changed, --kind or --alone")
            .hint("reedhook inventory show NAME shows all of one."));
    }
    let all = inventory::open(&context.desk.home)?;
    let wanted: Vec<Inventory> = match asked.within.is_empty() {
        true => all.list().map_err(|error| failed(context, error))?,
        false => asked.within.iter().map(|name| named(context, &all, name)).collect::<Outcome<_>>()?,
    };
    if wanted.is_empty() {
        return Err(Failure::usage("there is no inventory yet")
            .hint("Take one with `reedhook inventory take PLACE`."));
    }
    let everything = all.list().map_err(|error| failed(context, error))?;
    let mut gathered = gather(context, asked, &query, &all, (&wanted, &everything))?;
    let nothing = gathered.totals.iter().all(|total| *total == 0);
    let found = gathered.sorted();
    let copies = match asked.copies {
        true => {
            let files: Vec<_> = found.iter().map(|one| one.file(&wanted)).collect();
            copies::elsewhere(&all, &everything, &files).map_err(|error| failed(context, error))?
        }
        false => vec![Vec::new(); found.len()],
    };
    if context.global.json {
        found.iter().zip(&copies).for_each(|(one, copies)| print_with_copies(&wanted, one, copies));
    } else if nothing {
        let inventories = count(wanted.len() as u64, "inventory", "inventories");
        context.say(match asked.alone {
            true => "Nothing of that kind is on one drive only.".to_owned(),
            false => format!("Not found in {inventories}."),
        });
    } else {
        tell(context, asked, &wanted, (&found, &gathered.totals), &copies);
    }
    Ok(u8::from(nothing))
}

fn print_with_copies(wanted: &[Inventory], one: &FoundEntry, copies: &[copies::Place]) {
    let mut line = entry_line(&wanted[one.inventory].about.name, &one.path, &one.meta);
    let copy = |copy: &copies::Place| json!({"inventory": copy.inventory, "path": String::from_utf8_lossy(&copy.path)});
    line["copies"] = copies.iter().map(copy).collect();
    lines::print(&line);
}

/// Looks for it in the wanted ones of all inventories. What is to be printed as it comes is printed, and only counted: a short word is in
/// millions of paths.
fn gather(
    context: &Context,
    asked: &FindArgs,
    query: &Query,
    all: &Inventories,
    (wanted, everything): (&[Inventory], &[Inventory]),
) -> Outcome<FoundEntries> {
    let streams = context.global.json && !asked.copies;
    let most = match (asked.all || context.global.json, asked.copies) {
        (true, true) => COMPARED,
        (true, false) => usize::MAX,
        (false, _) => SHOWN,
    };
    let mut gathered =
        FoundEntries { found: vec![Vec::new(); wanted.len()], totals: vec![0; wanted.len()], most };
    let mut take = |at: usize, path: Vec<u8>, meta: &InventoryMeta| {
        match streams {
            true => {
                gathered.totals[at] += 1;
                lines::print(&entry_line(&wanted[at].about.name, &path, meta));
            }
            false => gathered.take(at, path, meta),
        }
        if context.desk.is_stopped() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    };
    if asked.alone {
        let place_of = |one: &Inventory| everything.iter().position(|other| other.id == one.id);
        let places: Vec<usize> = wanted.iter().filter_map(place_of).collect();
        let mut each = |at: usize, path, meta: &_| {
            let at = places.iter().position(|place| *place == at).unwrap_or_default();
            take(at, path, meta)
        };
        copies::alone(all, everything, &places, query, &mut each).map_err(|error| failed(context, error))?;
    } else {
        for (at, one) in wanted.iter().enumerate() {
            let mut each = |path, meta: &_| take(at, path, meta);
            query.find(all, one.id, &mut each).map_err(|error| failed(context, error))?;
        }
    }
    Ok(gathered)
}

/// What was found so far, by inventory.
struct FoundEntries {
    found: Vec<Vec<FoundEntry>>,
    totals: Vec<u64>,
    most: usize,
}

impl FoundEntries {
    fn take(&mut self, at: usize, path: Vec<u8>, meta: &InventoryMeta) {
        self.totals[at] += 1;
        if self.found[at].len() < self.most {
            self.found[at].push(FoundEntry { inventory: at, path, meta: *meta });
        }
    }

    fn sorted(&mut self) -> Vec<FoundEntry> {
        self.found.iter_mut().for_each(|found| found.sort_by(|a, b| a.path.cmp(&b.path)));
        std::mem::take(&mut self.found).into_iter().flatten().collect()
    }
}

fn query(context: &Context, asked: &FindArgs) -> Query {
    let mut query = Query::of(&asked.words);
    query.kind = asked.kind.map(|word| match word {
        KindWord::File => EntryKind::File,
        KindWord::Folder => EntryKind::Folder,
        KindWord::Link => EntryKind::Link,
        KindWord::Special => EntryKind::Special(Special::Other),
    });
    if let Some(Range { least, most }) = &asked.size {
        query.size = Bounds { least: least.map(|size| size.bytes()), most: most.map(|size| size.bytes()) };
    }
    if let Some(Range { least, most }) = &asked.changed {
        let now = context.desk.now();
        query.changed = Bounds {
            least: least.as_ref().map(|since| since.resolve(now)),
            most: most.as_ref().map(|until| until.resolve(now)),
        };
    }
    query
}

fn tell(
    context: &Context,
    asked: &FindArgs,
    wanted: &[Inventory],
    (found, totals): (&[FoundEntry], &[u64]),
    copies: &[Vec<copies::Place>],
) {
    let now = crate::clock::now_ms();
    let mut text = String::new();
    for (at, one) in wanted.iter().enumerate() {
        let of_it: Vec<_> = found.iter().zip(copies).filter(|(found, _)| found.inventory == at).collect();
        if of_it.is_empty() {
            continue;
        }
        let seen = format!("last seen {}, {}", moment(one.about.taken_ms), ago(one.about.taken_ms, now));
        let connected = is_connected(&context.desk, one);
        let there = format!("{}, {seen}", there_words(connected, one));
        let there = if connected { there } else { styled(CARE, there) };
        if !text.is_empty() {
            text.push('\n');
        }
        text.push_str(&format!("{}  {there}  ({})\n", styled(BOLD, &one.about.name), place_words(one)));
        let mut table = Columns::new(&[Align::Right, Align::Left, Align::Left]);
        for (found, copies) in &of_it {
            table.row(entry_row(&found.path, &found.meta));
            for copy in *copies {
                let place = format!("{}: {}", copy.inventory, shown(&copy.path));
                table.row(vec![String::new(), "also".to_owned(), place]);
            }
        }
        text.push_str(&table.render(2));
        let more = totals[at].saturating_sub(of_it.len() as u64);
        if more > 0 {
            let way = if asked.all { "" } else { " (--all lists them)" };
            text.push_str(&format!("  … and {} more{way}\n", grouped(more)));
        }
    }
    context.say(text.trim_end());
}

fn shown(path: &[u8]) -> String {
    RelPath::new(path).map_or_else(|_| String::from_utf8_lossy(path).into_owned(), |path| path.to_string())
}

fn entry_row(path: &[u8], meta: &InventoryMeta) -> Vec<String> {
    let (size, slash) = match meta.kind() {
        EntryKind::File => (bytes(meta.size), ""),
        EntryKind::Folder => (String::new(), "/"),
        EntryKind::Link => ("link".to_owned(), ""),
        EntryKind::Special(_) => ("special".to_owned(), ""),
    };
    let time = meta.modified().map(|time| moment(time.seconds().saturating_mul(1000))).unwrap_or_default();
    vec![size, time, format!("{}{slash}", shown(path))]
}

fn entry_line(inventory: &str, path: &[u8], meta: &InventoryMeta) -> Value {
    let mut line = lines::object(json!({"event": "entry", "inventory": inventory}));
    if let Ok(path) = RelPath::new(path) {
        line.extend(lines::path_object(&path));
    }
    line.insert("kind".to_owned(), json!(kind_word(meta.kind())));
    line.insert("size".to_owned(), json!(meta.size));
    line.insert("modified".to_owned(), json!(meta.modified().map(|time| lines::StampText(time).to_string())));
    if let Some(hash) = meta.hash {
        line.insert("hash".to_owned(), json!(hex(hash)));
    }
    line.into()
}

fn kind_word(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::File => "file",
        EntryKind::Folder => "folder",
        EntryKind::Link => "link",
        EntryKind::Special(_) => "special",
    }
}

fn show(context: &Context, name: &str, path: Option<&Path>) -> Outcome {
    let all = inventory::open(&context.desk.home)?;
    let one = named(context, &all, name)?;
    let top = match path {
        Some(path) => typed_path(path)?,
        None => RelPath::root(),
    };
    let held = branches(&all, one.id, top.as_bytes()).map_err(|error| failed(context, error))?;
    let Some(held) = held else {
        return Err(Failure::usage(format!("{name} has no folder {top}"))
            .hint(format!("Find it with: reedhook inventory find WORD --in {name}")));
    };
    if context.global.json {
        for branch in &held {
            let path = join(top.as_bytes(), &branch.name);
            let mut line = entry_line(name, &path, &branch.meta);
            if branch.is_folder() {
                line["files"] = json!(branch.files);
                line["bytes"] = json!(branch.bytes);
            }
            lines::print(&line);
        }
        return Ok(0);
    }
    let mut table = Columns::new(&[Align::Left, Align::Right, Align::Right, Align::Left]);
    table.heading(&["", "files", "bytes", "changed"]);
    let (folders, others): (Vec<&Branch>, Vec<&Branch>) = held.iter().partition(|branch| branch.is_folder());
    for branch in folders.into_iter().chain(others) {
        let [files, size] = branch_words(branch);
        let slash = if branch.is_folder() { "/" } else { "" };
        let time = branch.meta.modified().map(|time| moment(time.seconds().saturating_mul(1000)));
        table.row(vec![format!("{}{slash}", shown(&branch.name)), files, size, time.unwrap_or_default()]);
    }
    let place = if top.is_root() { String::new() } else { format!("  {top}/") };
    context.say(format!("{}{place}  {}", styled(BOLD, name), seen_words(context, &one)));
    context.say(if held.is_empty() { "  (empty)".to_owned() } else { table.render(2).trim_end().to_owned() });
    Ok(0)
}

/// A failure because a store is away, with what inventories know of what was asked for.
pub fn with_sightings(failure: Failure, seen: &[Sighting]) -> Failure {
    if seen.is_empty() {
        return failure;
    }
    let told: Vec<String> = seen.iter().map(sighting_words).collect();
    let hint = [failure.hint.clone(), told.join("\n")].join("\n");
    failure.hint(hint.trim_start())
}

/// That a store had something, when, and what it was.
fn sighting_words(seen: &Sighting) -> String {
    let Sighting { inventory, path, meta } = seen;
    let of_drive = match inventory.about.label.as_str() {
        label if label.is_empty() || label == inventory.about.name => String::new(),
        label => format!(" (drive {label})"),
    };
    let what = match meta.kind() {
        EntryKind::File => bytes(meta.size),
        EntryKind::Folder => "a folder".to_owned(),
        kind => format!("a {}", kind_word(kind)),
    };
    let changed = meta.modified().filter(|_| meta.kind() == EntryKind::File);
    let changed = changed.map(|time| format!(", changed {}", moment(time.seconds().saturating_mul(1000))));
    let (name, seen) = (&inventory.about.name, moment(inventory.about.taken_ms));
    format!("{name}{of_drive} had {} on {seen}: {what}{}.", shown(path), changed.unwrap_or_default())
}

/// Where to look what a place held that is away; nothing where nobody knows.
pub fn where_to_look(context: &Context, place: &Located) -> Option<String> {
    let (inventory, below) = sightings::of_place(&context.desk, place).filter(|_| !place.seems_there())?;
    let slash = if below.is_root() { "" } else { "/" };
    let (name, seen) = (&inventory.about.name, moment(inventory.about.taken_ms));
    Some(format!(
        "{} is not connected; what it held on {seen}: reedhook review inventory:{name}{slash}{below}",
        place.written
    ))
}

/// How many files something is, and their bytes.
pub fn branch_words(branch: &Branch) -> [String; 2] {
    match branch.meta.kind() {
        EntryKind::Folder => [grouped(branch.files), bytes(branch.bytes)],
        EntryKind::File => [String::new(), bytes(branch.bytes)],
        kind => [String::new(), kind_word(kind).to_owned()],
    }
}

/// Whether a store is there, and when it was last seen.
pub fn seen_words(context: &Context, one: &Inventory) -> String {
    let there = there_words(is_connected(&context.desk, one), one);
    let partly = if one.whole { "" } else { "; only what runs have seen" };
    format!("{there}, last seen {}{partly}", moment(one.about.taken_ms))
}

fn join(folder: &[u8], name: &[u8]) -> Vec<u8> {
    let mut path = folder.to_vec();
    if !path.is_empty() {
        path.push(b'/');
    }
    path.extend_from_slice(name);
    path
}

fn drop_it(context: &Context, name: &str) -> Outcome {
    let mut all = inventory::open(&context.desk.home)?;
    let one = named(context, &all, name)?;
    let away = !is_connected(&context.desk, &one);
    let question =
        format!("{name} is not connected: what it held cannot be known again until it is. Drop it?");
    if away && !context.global.yes && context.can_ask() && !ask::yes(&question, false)? {
        return Ok(0);
    }
    all.drop_named(name).map_err(|error| failed(context, error))?;
    context.say(format!("The inventory {name} is dropped. Nothing was changed on its drive."));
    Ok(0)
}

fn export(context: &Context, name: &str, (csv, raw): (bool, bool)) -> Outcome {
    let all = inventory::open(&context.desk.home)?;
    let one = named(context, &all, name)?;
    if !csv && !context.global.json {
        return Err(Failure::usage("say in which form: --csv or --json"));
    }
    let mut rows = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    if csv {
        put(&mut rows, ["path", "kind", "size", "modified", "hash"].map(str::as_bytes))?;
    }
    let mut broken = Ok(());
    let mut each = |path: Vec<u8>, meta: &InventoryMeta| {
        if !csv {
            lines::print(&entry_line(name, &path, meta));
            return ControlFlow::Continue(());
        }
        let size = meta.size.to_string();
        let time = meta.modified().map(|time| lines::StampText(time).to_string()).unwrap_or_default();
        let hash = meta.hash.map(hex).unwrap_or_default();
        let cells = [
            path.as_slice(),
            kind_word(meta.kind()).as_bytes(),
            size.as_bytes(),
            time.as_bytes(),
            hash.as_bytes(),
        ];
        broken = match raw {
            true => put(&mut rows, cells),
            false => put(&mut rows, cells.map(cell).each_ref().map(String::as_bytes)),
        };
        // What is written goes out piece by piece: an inventory may be larger than memory.
        if rows.get_ref().len() > 1 << 16 {
            output::raw(rows.get_ref());
            rows = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        }
        if broken.is_err() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    };
    Query::of(&[]).find(&all, one.id, &mut each).map_err(|error| failed(context, error))?;
    broken?;
    if csv {
        output::raw(rows.get_ref());
    }
    Ok(0)
}

fn put<'a>(rows: &mut csv::Writer<Vec<u8>>, cells: impl IntoIterator<Item = &'a [u8]>) -> Outcome<()> {
    let written = rows.write_record(cells).and_then(|()| Ok(rows.flush()?));
    written.map_err(|error| Failure::own_files("cannot write the table", error))
}

fn hex(hash: [u8; 32]) -> String {
    hash.iter().map(|byte| format!("{byte:02x}")).collect()
}
