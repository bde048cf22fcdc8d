//! Whole runs: what a lab with its links, machines and members does, judged by its record.

mod accounts;
mod branches;
mod budgets;
mod changes;
mod comings;
mod corrections;
mod determinism;
mod diagnose;
mod drawn;
mod figures;
mod ground;
mod guard;
mod hands;
mod honest;
mod hosting;
mod ladder;
mod links;
mod memory;
#[path = "../../gait/tests/mutants/mod.rs"]
mod mutants;
mod mutation;
mod naive;
mod on_time;
mod packets;
mod planted;
mod play;
mod questions;
mod rogues;
mod rules;
mod saved;
mod scenario;
mod stored;
mod tables;
mod takes;
mod trials;
mod troubles;
