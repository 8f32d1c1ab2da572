//! The board on a terminal that is not there.
