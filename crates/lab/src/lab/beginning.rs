//! What a lab tells of itself before anything happens.

use velocitas_core::Tick;
use velocitas_record::addresses::token;
use velocitas_record::ids::MachineId;
use velocitas_record::record::{Beginning, MachineInfo, Origin, Player, There};

use super::Lab;
use crate::course::KnownTo;

impl Lab {
    /// Who is who, and what is known, at the beginning of what is run.
    pub fn beginning(&self) -> Beginning {
        let course = &self.course;
        let mut machines: Vec<MachineInfo> = course
            .machines()
            .map(|(name, host)| MachineInfo { name: name.to_owned(), serves: false, host, player: None })
            .collect();
        machines[MachineId::SERVER.index()].serves = true;
        for member in course.members() {
            let (m, machine) = (&course[member], course.machine(member));
            machines[machine.index()].player =
                Some(Player { role: m.role, arrangement: m.arrangement, knobs: m.knobs });
        }
        let there = self.server().world().iter().map(|entity| There {
            entity: entity.id(),
            kind: entity.kind(),
            with: course.members().find(|member| self.entity(*member) == Some(entity.id())).map(token),
            owners: entity.owners().to_vec(),
        });
        Beginning {
            title: course.name.clone(),
            seed: course.seed,
            rate: course.rate,
            first: Tick(course.first_tick),
            machines,
            players: course.members().map(|member| (token(member), course.machine(member))).collect(),
            things: course.things.iter().map(|thing| thing.name.clone()).collect(),
            world: course.world.clone(),
            origin: Origin {
                text: course.text.clone(),
                gaits: course.gaits.as_slice().into(),
                patience: course.patience,
                traces: course.traces.clone(),
            },
            rules: [course.known(KnownTo::Server), course.known(KnownTo::Clients)],
            there: there.collect(),
        }
    }
}
