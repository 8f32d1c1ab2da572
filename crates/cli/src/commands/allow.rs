//! The guards that a person lifts.

use reedhook_core::plan::guard::Lift;

use crate::args::Guard;
use crate::context::Context;

/// The guards that a person lifts with `--allow`.
pub fn lifted(context: &Context, allowed: &[Guard]) -> Vec<Lift> {
    let commands = allowed.contains(&Guard::Commands);
    context.desk.commands_allowed.store(commands, std::sync::atomic::Ordering::Relaxed);
    let lift = |guard: &Guard| match guard {
        Guard::Removals => Some(Lift::Removals),
        Guard::Changes => Some(Lift::Changes),
        Guard::Empty => Some(Lift::Empty),
        Guard::Space => Some(Lift::Space),
        Guard::Commands => None,
    };
    allowed.iter().filter_map(lift).collect()
}
