//! Profiles: named kinds of link. The numbers are ours, typical of what players have and no measurement; `docs/links.md` has them
//! in a table made from this one.

use velocitas_record::Conditions;

/// A named kind of link.
#[derive(Clone, Copy, Debug)]
pub struct Profile {
    /// As courses write it.
    pub name: &'static str,
    /// What it is like, in a line.
    pub says: &'static str,
    /// The way up.
    pub up: Conditions,
    /// The way down.
    pub down: Conditions,
}

/// A link that only delays.
const fn plain(latency_ms: f64, jitter_ms: f64, loss: f64) -> Conditions {
    Conditions { latency_ms, jitter_ms, loss, ..Conditions::PERFECT }
}

const FIBRE: Conditions = plain(8.0, 0.5, 0.0001);
const CABLE: Conditions = plain(14.0, 3.0, 0.001);
const HOME: Conditions = Conditions { bursts: 1.0, burst_ms: 150.0, burst_loss: 0.5, ..plain(22.0, 6.0, 0.004) };
const CROWDED: Conditions = Conditions {
    correlation_ms: 60.0,
    bursts: 8.0,
    burst_ms: 250.0,
    burst_loss: 0.6,
    bunch_ms: 10.0,
    ..plain(28.0, 16.0, 0.01)
};
const PHONE: Conditions = Conditions {
    correlation_ms: 150.0,
    reordering: 0.002,
    bursts: 2.0,
    burst_ms: 400.0,
    burst_loss: 0.7,
    outages: 0.25,
    outage_ms: 1200.0,
    bandwidth: 8000.0,
    queue: 250.0,
    ..plain(48.0, 18.0, 0.008)
};
const SATELLITE: Conditions = Conditions {
    correlation_ms: 400.0,
    bursts: 1.0,
    burst_ms: 600.0,
    burst_loss: 0.8,
    bandwidth: 20_000.0,
    queue: 500.0,
    ..plain(300.0, 12.0, 0.005)
};

/// All of them, the best first.
pub const PROFILES: [Profile; 6] = [
    Profile { name: "fibre", says: "glass to the house, a wire to the machine", up: FIBRE, down: FIBRE },
    Profile {
        name: "cable",
        says: "a television cable: the way up is shared and slower",
        up: Conditions { jitter_ms: 5.0, bandwidth: 20_000.0, queue: 128.0, ..CABLE },
        down: CABLE,
    },
    Profile { name: "home", says: "wifi at home, a wall away", up: HOME, down: HOME },
    Profile {
        name: "crowded-wifi",
        says: "wifi that a house of others uses: frames wait for their turn and come in bunches",
        up: CROWDED,
        down: CROWDED,
    },
    Profile {
        name: "phone",
        says: "a telephone network on the move: cells change, the way up is narrow",
        up: Conditions { bandwidth: 1500.0, queue: 128.0, ..PHONE },
        down: PHONE,
    },
    Profile {
        name: "satellite",
        says: "far above: a long way, and rain",
        up: Conditions { bandwidth: 3000.0, queue: 250.0, ..SATELLITE },
        down: SATELLITE,
    },
];

impl Profile {
    /// The one of that name.
    pub fn named(name: &str) -> Option<&'static Self> {
        PROFILES.iter().find(|profile| profile.name == name)
    }
}
