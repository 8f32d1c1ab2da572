//! The file of inventories, opened; and what is said where it fails.

use reedhook_record::RecordError;
use reedhook_record::inventories::{Inventories, Inventory};

use crate::failure::{Failure, Outcome, suggestion};
use crate::home::{Home, make_closed, make_folder};

/// Opens the file of all inventories, making it when there is none.
///
/// # Errors
/// When it cannot be used.
pub fn open(home: &Home) -> Outcome<Inventories> {
    make_folder(home.state())?;
    let file = home.inventories_file();
    // It names what is in everybody's folders.
    make_closed(&file)?;
    Inventories::open(&file).map_err(|error| failed(home, error))
}

/// What went wrong with the file of inventories: it can be thrown away, for all of it can be taken anew.
pub fn failed(home: &Home, error: RecordError) -> Failure {
    let file = home.inventories_file();
    Failure::own_files(&file.display().to_string(), format!("the file of inventories {}", error.told()))
        .hint("All of it can be taken anew: reedhook doctor --mend puts a broken file aside, and runs and `inventory take` fill a new one.")
}

/// The inventory of this name; an unknown one is an error that names the nearest.
///
/// # Errors
/// When there is none, or the file of inventories cannot be used.
pub fn named(home: &Home, all: &Inventories, name: &str) -> Outcome<Inventory> {
    if let Some(found) = all.named(name).map_err(|error| failed(home, error))? {
        return Ok(found);
    }
    let known = all.list().map_err(|error| failed(home, error))?;
    let known: Vec<String> = known.into_iter().map(|one| one.about.name).collect();
    Err(Failure::usage(format!("there is no inventory \"{name}\"")).hint(suggestion(
        name,
        &known,
        "inventory",
    )))
}
