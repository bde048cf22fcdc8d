//! Where machines of the lab are on its network, and which players they are.

use velocitas_core::{Address, Token};

use crate::ids::{MachineId, MemberId};

/// The most machines; above that an address counts the programs started on one.
const MACHINES: u64 = 1 << 16;

/// Where the program of a machine is that was started so often before: each start has an address of its own.
pub const fn address(machine: MachineId, starts: u64) -> Address {
    Address(machine.index() as u64 + MACHINES * starts)
}

/// Which machine is at an address, if there are that many.
pub fn machine_at(address: Address, count: usize) -> Option<MachineId> {
    MachineId::first(count).nth((address.0 % MACHINES) as usize)
}

/// Tokens of one member under other names lie so far apart.
const ALIASES: u64 = 1 << 16;

/// The player that a member is.
pub const fn token(member: MemberId) -> Token {
    Token(member.index() as u64 + 1)
}

/// The token of a player under alias number `alias`.
pub const fn aliased(token: Token, alias: u64) -> Token {
    Token(token.0 + alias * ALIASES)
}

/// The player that somebody is under whatever name.
pub const fn unaliased(token: Token) -> Token {
    Token(token.0 % ALIASES)
}
