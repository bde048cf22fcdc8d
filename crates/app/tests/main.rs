//! The program as its users have it: its commands, its terminal, what it writes.

mod check;
mod cli;
mod compare;
mod diagnose;
#[path = "../../gait/tests/mutants/dice.rs"]
mod dice;
mod documents;
mod foresight;
mod imports;
mod independent;
mod named;
mod netcode;
mod outputs;
mod pty;
mod pty_driver;
mod reader;
mod records;
mod takes;
mod terminal;
mod vary;
