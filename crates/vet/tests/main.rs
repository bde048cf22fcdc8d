//! Rules and guards tried as the program tries them.

#[path = "../../gait/tests/mutants/mod.rs"]
mod mutants;
mod mutation;
mod rogues;
mod rules;
