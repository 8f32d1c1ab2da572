//! What is shown of a review.

use std::time::Instant;

use reedhook_core::entry::Side;
use reedhook_core::job::ConflictPolicy;
use reedhook_core::path::RelPath;
use reedhook_jobs::tally::Tally;

use crate::paint::Paint;
use crate::progress;
use crate::review::model::{Choice, Model};
use crate::review::work::Chosen;

/// What is going on.
pub(crate) enum Phase {
    Looking { entries: u64, read: u64 },
    Ready,
    Running(Box<Running>),
}

/// A run that is being watched.
pub(crate) struct Running {
    pub(super) tally: Tally,
    pub(super) since: Instant,
}

impl Running {
    pub(super) fn line(&self, width: usize) -> String {
        progress::in_a_line(&self.tally, self.since.elapsed(), width)
    }
}

/// What is typed into the line at the bottom.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Asked {
    Search,
    Plan,
    Filter,
}

impl Asked {
    pub(super) fn question(self) -> &'static str {
        match self {
            Asked::Search => "Find: ",
            Asked::Plan => "Save the plan as: ",
            Asked::Filter => "Leave out, from now on: ",
        }
    }
}

pub(crate) struct Prompt {
    pub(super) kind: Asked,
    pub(super) text: String,
}

/// Everything that is shown.
pub(crate) struct View {
    pub(super) name: String,
    pub(super) places: [String; 2],
    pub(super) is_job: bool,
    pub(super) paint: Paint,
    pub(super) model: Model,
    pub(super) same: u64,
    pub(super) notes: Vec<String>,
    pub(super) phase: Phase,
    pub(super) message: Option<String>,
    pub(super) prompt: Option<Prompt>,
    pub(super) question: Option<String>,
    pub(super) pane: Option<(RelPath, Vec<String>, usize)>,
    pub(super) help: bool,
    pub(super) found: String,
    /// A run was stopped by a key, here: the review goes on.
    pub(super) stopping: bool,
    /// Lines of the list, as it was drawn last.
    pub(super) height: usize,
    pub(super) code: u8,
}

impl View {
    pub(super) fn new(name: &str, is_job: bool, paint: Paint) -> View {
        View {
            name: name.to_owned(),
            places: Default::default(),
            is_job,
            paint,
            model: Model::default(),
            same: 0,
            notes: Vec::new(),
            phase: Phase::Looking { entries: 0, read: 0 },
            message: None,
            prompt: None,
            question: None,
            pane: None,
            help: false,
            found: String::new(),
            stopping: false,
            height: 0,
            code: 0,
        }
    }

    pub(super) fn chosen(&self) -> Chosen {
        let winners = [(ConflictPolicy::Left, Choice::Left), (ConflictPolicy::Right, Choice::Right)];
        let winners = winners.map(|(policy, choice)| (policy, self.model.settled(choice))).into();
        let reversed = [(ConflictPolicy::Left, Side::Left), (ConflictPolicy::Right, Side::Right)];
        let reversed = reversed.map(|(policy, side)| (policy, self.model.reversed(side))).into();
        Chosen { left: self.model.leaves(), winners, reversed }
    }
}
