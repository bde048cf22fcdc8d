//! Who decides where an entity is: a table of two facts.
//!
//! What an owner's machine does with its own entity, and what the authority does with what that machine says. Behaviour
//! lives in `client/own/` and `server/control/`, one file for each side of each fact.

/// What an owner's machine does with its own entity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnerSide {
    /// Sends inputs and waits to be told.
    Follow,
    /// Sends inputs, applies them at once, takes the authority's word for it afterwards.
    Predict,
    /// Moves it and says where it is.
    Decide,
    /// Moves it and accounts for it: what was pressed, and where that led.
    Account,
}

impl OwnerSide {
    /// Whether the owner's machine says where its entity is.
    pub const fn decides(self) -> bool {
        matches!(self, Self::Decide | Self::Account)
    }
}

/// What the authority does with what an owner sends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Authority {
    /// Runs the rule with the owner's inputs.
    Step,
    /// Takes over what the owner says.
    Believe,
    /// Takes it over if the guard finds it lawful.
    Judge,
    /// Steps after the owner with what was pressed, and compares the account with the result.
    Restep,
}

/// One row of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrangement {
    name: &'static str,
    help: &'static str,
    owner: OwnerSide,
    authority: Authority,
}

impl Arrangement {
    /// Inputs go up, the server moves, the owner waits to be told.
    pub const TERMINAL: Self = Self {
        name: "terminal",
        help: "inputs go up, the server moves, the owner waits to be told",
        owner: OwnerSide::Follow,
        authority: Authority::Step,
    };
    /// Inputs go up, the server moves, the owner predicts.
    pub const SERVER: Self = Self {
        name: "server",
        help: "inputs go up, the server moves, the owner predicts what will come of them",
        owner: OwnerSide::Predict,
        authority: Authority::Step,
    };
    /// The owner moves and says where it is; the guard decides whether that is believed.
    pub const CLAIMS: Self = Self {
        name: "claims",
        help: "the owner moves and says where it is; the guard judges that",
        owner: OwnerSide::Decide,
        authority: Authority::Judge,
    };
    /// The owner moves and says where it is; it is believed.
    pub const RELAY: Self = Self {
        name: "relay",
        help: "the owner moves and says where it is; the server passes it on unjudged",
        owner: OwnerSide::Decide,
        authority: Authority::Believe,
    };
    /// The owner moves and says where it is and what was pressed; the server steps after it.
    pub const ACCOUNTS: Self = Self {
        name: "claims with inputs",
        help: "the owner moves, says where it is and what was pressed; the server steps after it",
        owner: OwnerSide::Account,
        authority: Authority::Restep,
    };
    /// The table.
    pub const ALL: [Self; 5] = [Self::TERMINAL, Self::SERVER, Self::CLAIMS, Self::RELAY, Self::ACCOUNTS];

    /// Its name in courses and reports.
    pub const fn name(self) -> &'static str {
        self.name
    }

    /// What it means, in a line.
    pub const fn help(self) -> &'static str {
        self.help
    }

    /// What an owner's machine does.
    pub const fn owner(self) -> OwnerSide {
        self.owner
    }

    /// What the authority does.
    pub const fn authority(self) -> Authority {
        self.authority
    }

    /// Whether the authority moves it, not its owner.
    pub fn sends_inputs(self) -> bool {
        !self.owner.decides()
    }

    /// Whether the server can push it and put it elsewhere: because it moves it, or because its owner has to obey.
    pub fn is_moved(self) -> bool {
        self.sends_inputs() || self.authority != Authority::Believe
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_owners_send_is_what_the_authority_reads() {
        for row in Arrangement::ALL {
            assert_eq!(row.sends_inputs(), row.authority() == Authority::Step, "{}", row.name());
        }
        let mut names: Vec<&str> = Arrangement::ALL.map(Arrangement::name).to_vec();
        names.dedup();
        assert_eq!(names.len(), Arrangement::ALL.len());
    }
}
