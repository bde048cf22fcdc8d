//! Rules as a whole: read, checked, compiled and run.

mod diagnostics;
mod limits;
mod mutants;
mod mutation;
mod shipped;
mod walker;
