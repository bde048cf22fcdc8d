//! A server and clients that talk to each other.

mod accounts;
mod client_and_server;
mod coming_and_going;
mod comings_and_goings_model;
mod echoes;
mod pair;
mod party;
mod remotes;
mod streams;
mod trouble;
mod walker;
