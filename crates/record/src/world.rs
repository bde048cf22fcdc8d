//! Where it is: the ground with its names, and which side knows of what.

use velocitas_core::{Bounds, Ground, Solid, Vec3, Zone};

/// Where it is.
#[derive(Clone, Debug)]
pub struct World {
    /// Where it ends.
    pub bounds: Bounds,
    /// Boxes, by id.
    pub solids: Vec<NamedSolid>,
    /// Surfaces.
    pub zones: Vec<NamedZone>,
}

impl World {
    /// The ground as the server or the clients know it.
    pub fn ground(&self, side: KnownTo) -> Ground {
        self.ground_of(&self.solids.iter().map(|solid| solid.known_to.includes(side)).collect::<Vec<_>>())
    }

    /// The solid whose middle is nearest to a place, as seen from above.
    pub fn nearest(&self, to: Vec3) -> Option<&NamedSolid> {
        let far = |named: &NamedSolid| {
            let (x, y) = (named.solid.x - to.x, named.solid.y - to.y);
            x * x + y * y
        };
        self.solids.iter().min_by(|a, b| far(a).total_cmp(&far(b)))
    }

    /// The ground with these of its solids, by id.
    pub fn ground_of(&self, known: &[bool]) -> Ground {
        let there = self.solids.iter().zip(known).filter(|(_, known)| **known);
        Ground::new(
            self.bounds,
            there.map(|(named, _)| named.solid).collect(),
            self.zones.iter().map(|z| z.zone).collect(),
        )
    }
}

/// Who knows of a solid.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownTo {
    /// Everybody.
    All,
    /// The server only.
    Server,
    /// The clients only.
    Clients,
    /// Nobody: it is not there, and may come to be.
    Nobody,
}

impl KnownTo {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::All, Self::Server, Self::Clients, Self::Nobody];

    /// Its name in courses and reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::All => "all",
            Self::Server => "server",
            Self::Clients => "clients",
            Self::Nobody => "nobody",
        }
    }

    /// Whether a side, or everybody, is among them.
    pub fn includes(self, side: Self) -> bool {
        self == Self::All || self == side && self != Self::Nobody
    }

    /// Those who know something, if it is known to the server, and to the clients.
    pub const fn of(server: bool, clients: bool) -> Self {
        match (server, clients) {
            (true, true) => Self::All,
            (true, false) => Self::Server,
            (false, true) => Self::Clients,
            (false, false) => Self::Nobody,
        }
    }
}

/// A solid with its name.
#[derive(Clone, Debug)]
pub struct NamedSolid {
    /// As shown.
    pub name: String,
    /// The solid.
    pub solid: Solid,
    /// Who knows of it.
    pub known_to: KnownTo,
}

/// What a zone is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Material {
    /// Slows.
    Water,
    /// Has no grip.
    Ice,
    /// Only looks different.
    Planks,
}

/// A zone with its name.
#[derive(Clone, Debug)]
pub struct NamedZone {
    /// As shown.
    pub name: String,
    /// What it is.
    pub material: Material,
    /// The zone.
    pub zone: Zone,
}
