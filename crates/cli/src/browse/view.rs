//! What is shown of an inventory.

use std::ops::ControlFlow;

use reedhook_jobs::inventory::{self, Query, branches};
use reedhook_record::inventories::{Inventories, Inventory};

use crate::browse::model::Model;
use crate::context::Context;
use crate::failure::Outcome;
use crate::paint::Paint;

/// So much of what is found can be gone through.
pub(super) const MOST_FOUND: usize = 10_000;

/// Everything that is shown.
pub(super) struct View {
    pub(super) name: String,
    /// Whether it is there, and when it was last seen.
    pub(super) seen: String,
    pub(super) entries: u64,
    pub(super) bytes: u64,
    pub(super) paint: Paint,
    pub(super) model: Model,
    pub(super) message: Option<String>,
    /// What is being typed to be found.
    pub(super) typing: Option<String>,
    pub(super) help: bool,
    /// Lines of the list, as it was drawn last.
    pub(super) height: usize,
}

impl View {
    pub(super) fn new(one: &Inventory, seen: String, paint: Paint) -> View {
        View {
            name: one.about.name.clone(),
            seen,
            entries: one.entries,
            bytes: one.bytes,
            paint,
            model: Model::default(),
            message: None,
            typing: None,
            help: false,
            height: 0,
        }
    }
}

/// The inventory that is looked through.
pub(super) struct Source<'c> {
    pub(super) context: &'c Context,
    pub(super) all: Inventories,
    pub(super) one: Inventory,
}

impl Source<'_> {
    pub(super) fn list(&self, model: &mut Model, folder: &[u8]) -> Outcome<()> {
        let found = branches(&self.all, self.one.id, folder);
        let found = found.map_err(|error| inventory::failed(&self.context.desk.home, error))?;
        model.take(folder, found.unwrap_or_default());
        Ok(())
    }

    pub(super) fn open(&self, model: &mut Model) -> Outcome<()> {
        match model.open_here() {
            Some(folder) => self.list(model, &folder),
            None => Ok(()),
        }
    }

    pub(super) fn go_to(&self, model: &mut Model, path: &[u8]) -> Outcome<()> {
        for folder in model.open_to(path) {
            self.list(model, &folder)?;
        }
        model.go_to(path);
        Ok(())
    }

    /// Everything that has these words in its path.
    pub(super) fn find(&self, text: &str) -> Outcome<Vec<Vec<u8>>> {
        let words: Vec<String> = text.split_whitespace().map(str::to_owned).collect();
        let mut found = Vec::new();
        let mut each = |path: Vec<u8>, _: &_| {
            found.push(path);
            if found.len() < MOST_FOUND { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        };
        let sought = Query::of(&words).find(&self.all, self.one.id, &mut each);
        sought.map_err(|error| inventory::failed(&self.context.desk.home, error))?;
        Ok(found)
    }
}
