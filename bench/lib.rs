//! What a benchmark of programs needs: trees from a fixed seed, and running two programs in turn. The rows are in `main.rs`; they
//! stand in a package of their own, so that measuring builds the program that people get, and builds it once.

pub mod measure;
pub mod trees;
