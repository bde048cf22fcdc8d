//! A naive check made by everybody else's client: of what is drawn there of others.
//!
//! What it finds is told as a verdict that is only noted: a client can put nobody back. It is no part of what is simulated.

use std::collections::BTreeMap;

use velocitas_core::{
    Answer, Around, Check, ClaimCase, Client, EntityId, Exhibit, Finding, HostNanos, Path, PeerId, Rate, Scene, Tick,
    Vec3, Verdict,
};
use velocitas_record::ids::MachineId;

use crate::naive::NaiveSpec;

/// Whom somebody sees.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Sight {
    pub(crate) entity: EntityId,
    pub(crate) peer: PeerId,
    pub(crate) kind: u8,
}

/// What all of them saw last.
#[derive(Clone, Debug, Default)]
pub(crate) struct Bystanders {
    seen: BTreeMap<(MachineId, EntityId), Seen>,
}

#[derive(Clone, Debug)]
struct Seen {
    /// By the viewer's ticks.
    tick: Tick,
    at: Vec3,
    check: Box<dyn Check>,
    /// When it was last accused: once a second is enough.
    accused: Option<Tick>,
}

impl Bystanders {
    /// A machine has drawn its frame. What it makes of those that it sees.
    pub(crate) fn look(
        &mut self,
        row: &NaiveSpec,
        (viewer, client, read): (MachineId, &Client, HostNanos),
        sights: &[Sight],
        rate: Rate,
    ) -> Vec<Verdict> {
        let Some(now) = client.newest_tick() else { return Vec::new() };
        let world = client.ingredients();
        let mut found = Vec::new();
        client.draw(read, |entity, drawn| {
            let Some(sight) = sights.iter().find(|sight| sight.entity == entity) else { return };
            let at = drawn.state.vec3(0);
            let new = || Seen { tick: now, at, check: row.check(), accused: None };
            let seen = self.seen.entry((viewer, entity)).or_insert_with(new);
            if now <= seen.tick {
                return;
            }
            let motion = world.kinds.motion(sight.kind);
            let tunables = &world.tunables[usize::from(sight.kind)];
            let scene = Scene { tick: now, dt: rate.dt(), ground: &world.ground, tunables };
            let limits = motion.limits(tunables);
            let case = ClaimCase {
                scene: &scene,
                motion,
                limits: &limits,
                rate,
                from: seen.tick,
                tick: now,
                arrived: now,
                start: seen.at,
                end: at,
                before: &drawn.state,
                ago: 0,
                allowed: &velocitas_core::AS_SAID,
                told: None,
                carried: 0.0,
                around: Around::NOTHING,
                lately: &[],
            };
            let finding = seen.check.judge(&case);
            (seen.tick, seen.at) = (now, at);
            if let Finding::Beyond(evidence, _) = finding
                && seen.accused.is_none_or(|last| now.since(last) >= i64::from(rate.hz()))
            {
                seen.accused = Some(now);
                let path = Path::through([case.start, case.end]);
                let exhibit = Some(Exhibit { hull: motion.body(), path, put: at });
                found.push(Verdict { peer: sight.peer, entity, tick: now, evidence, exhibit, answer: Answer::Noted });
            }
        });
        found
    }
}
