//! What is looked through, as data: the folders that are open, where the cursor is, and what was found. No terminal and no file comes
//! near it.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use reedhook_jobs::inventory::Branch;

/// What comes first in a folder. Folders come before the rest, whatever it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Order {
    #[default]
    Name,
    /// The largest.
    Size,
    /// What was changed last.
    Changed,
}

impl Order {
    pub fn next(self) -> Order {
        match self {
            Order::Name => Order::Size,
            Order::Size => Order::Changed,
            Order::Changed => Order::Name,
        }
    }

    pub fn words(self) -> &'static str {
        match self {
            Order::Name => "by name",
            Order::Size => "the largest first",
            Order::Changed => "the last changed first",
        }
    }

    fn compare(self, a: &Branch, b: &Branch) -> Ordering {
        let by_name = || a.name.cmp(&b.name);
        b.is_folder().cmp(&a.is_folder()).then_with(|| match self {
            Order::Name => by_name(),
            Order::Size => b.bytes.cmp(&a.bytes).then_with(by_name),
            Order::Changed => b.meta.modified().cmp(&a.meta.modified()).then_with(by_name),
        })
    }
}

/// A line of the view.
#[derive(Debug, Clone)]
pub struct TreeLine {
    pub path: Vec<u8>,
    pub depth: usize,
    pub branch: Branch,
    pub open: bool,
}

/// What is looked through.
#[derive(Debug, Default)]
pub struct Model {
    listed: HashMap<Vec<u8>, Vec<Branch>>,
    open: HashSet<Vec<u8>>,
    pub order: Order,
    pub lines: Vec<TreeLine>,
    pub cursor: usize,
    pub top: usize,
    /// What was found, and at which of it the cursor was put last.
    pub found: Vec<Vec<u8>>,
    pub at: usize,
}

impl Model {
    /// What a folder has.
    pub fn take(&mut self, folder: &[u8], branches: Vec<Branch>) {
        self.listed.insert(folder.to_vec(), branches);
        self.rebuild();
    }

    pub fn turn(&mut self) {
        self.order = self.order.next();
        self.rebuild();
    }

    /// Builds the lines anew; the cursor stays on what it was on.
    fn rebuild(&mut self) {
        let was = self.here().map(|line| line.path.clone());
        let mut lines = Vec::new();
        self.build(b"", 0, &mut lines);
        self.lines = lines;
        let place = was.and_then(|was| self.lines.iter().position(|line| line.path == was));
        self.cursor = place.unwrap_or(self.cursor).min(self.lines.len().saturating_sub(1));
    }

    fn build(&self, folder: &[u8], depth: usize, lines: &mut Vec<TreeLine>) {
        let mut branches: Vec<&Branch> = self.listed.get(folder).into_iter().flatten().collect();
        branches.sort_by(|a, b| self.order.compare(a, b));
        for branch in branches {
            let path = joined(folder, &branch.name);
            let open = branch.is_folder() && self.open.contains(&path);
            lines.push(TreeLine { path: path.clone(), depth, branch: branch.clone(), open });
            if open {
                self.build(&path, depth + 1, lines);
            }
        }
    }

    pub fn here(&self) -> Option<&TreeLine> {
        self.lines.get(self.cursor)
    }

    pub fn move_by(&mut self, lines: isize) {
        let last = self.lines.len().saturating_sub(1);
        self.cursor = self.cursor.saturating_add_signed(lines).min(last);
    }

    /// Opens the folder under the cursor; returns its path when it has to be listed first.
    pub fn open_here(&mut self) -> Option<Vec<u8>> {
        let path = self.here().filter(|line| line.branch.is_folder() && !line.open)?.path.clone();
        self.open.insert(path.clone());
        self.rebuild();
        (!self.listed.contains_key(&path)).then_some(path)
    }

    /// Folds the folder under the cursor, or goes to the one that the line is in.
    pub fn fold_here(&mut self) {
        let Some(line) = self.here() else { return };
        if line.open {
            let path = line.path.clone();
            self.open.remove(&path);
            self.rebuild();
        } else {
            let above = (0..self.cursor).rev().find(|at| self.lines[*at].depth < line.depth);
            self.cursor = above.unwrap_or(self.cursor);
        }
    }

    /// Opens the folders on the way to a path; those that have to be listed first.
    pub fn open_to(&mut self, path: &[u8]) -> Vec<Vec<u8>> {
        let slashes = path.iter().enumerate().filter(|(_, byte)| **byte == b'/');
        let above: Vec<Vec<u8>> = slashes.map(|(at, _)| path[..at].to_vec()).collect();
        self.open.extend(above.iter().cloned());
        above.into_iter().filter(|folder| !self.listed.contains_key(folder)).collect()
    }

    /// Puts the cursor on a path whose folders are open and listed.
    pub fn go_to(&mut self, path: &[u8]) {
        self.rebuild();
        let place = self.lines.iter().position(|line| line.path == path);
        self.cursor = place.unwrap_or(self.cursor);
    }

    /// Keeps the cursor in a window of so many lines.
    pub fn scroll(&mut self, height: usize) {
        let height = height.max(1);
        self.top = self.top.min(self.cursor).max((self.cursor + 1).saturating_sub(height));
        self.top = self.top.min(self.lines.len().saturating_sub(height));
    }
}

pub(in crate::browse) fn joined(folder: &[u8], name: &[u8]) -> Vec<u8> {
    if folder.is_empty() { name.to_vec() } else { [folder, b"/", name].concat() }
}
