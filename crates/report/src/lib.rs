//! What is remembered, told to people and programs: did it run, did it work, what is to be done.
//!
//! [`Report::of`](figures::Report::of) gathers the figures of a time out of the record and the logs; nothing is looked at but Reedhook's
//! own files, so a drive that is away or a server that does not answer keeps no report from being made. What is not well is worked out
//! from the figures by [`findings`]. [`plain`] writes both as text, [`page`] as one page with charts, [`sheet`] as a table of runs, and
//! [`metrics`] writes the figures of this moment for whoever gathers them.
//!
//! Nothing here prints. The clock and the zone come in from outside, with the [`Desk`](reedhook_jobs::desk::Desk).

pub mod causes;
mod chart;
pub mod days;
pub mod figures;
pub mod findings;
pub mod lonely;
pub mod metrics;
pub mod missed;
pub mod page;
pub(crate) mod parts;
pub mod plain;
pub mod rooms;
pub mod sheet;
pub(crate) mod sums;
pub mod text;
pub mod words;
