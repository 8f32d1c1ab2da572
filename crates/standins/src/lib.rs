//! Small servers.
