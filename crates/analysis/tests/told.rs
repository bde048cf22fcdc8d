//! A server and one player, told by hand.

use std::sync::Arc;

use velocitas_core::walker::Walker;
use velocitas_core::{
    Arrangement, Bounds, ClientSettings, Contacts, EntityId, Event, Evidence, Fact, Input, InputFact, InputFate, Kinds,
    Made, Measure, MessageKind, Motion, Patience, PeerId, Rate, Rule, State, StateEvent, Tick, Token, vec3,
};
use velocitas_record::addresses::address;
use velocitas_record::ids::{ActorId, MachineId, Part, RecordTick};
use velocitas_record::known::Known;
use velocitas_record::record::{Beginning, Cast, MachineInfo, Origin, Player, Record, Recorder, There};
use velocitas_record::{Conditions, HostSpec, Knobs, LabTime, MessageRow, Role, Watch, World};

/// The number of the tick that all count from: what is shown is not what is counted.
pub const FIRST: u64 = 500;
/// The player's entity.
pub const BODY: EntityId = EntityId::first(0);
/// Its connection.
pub const PEER: PeerId = PeerId { slot: 0, epoch: 0 };

/// The machine that plays.
pub fn player() -> MachineId {
    MachineId::first(2).nth(1).expect("the second")
}

pub fn ms(millis: f64) -> LabTime {
    LabTime::from_millis(millis)
}

/// When a tick is due, at 50 Hz: 20 ms each.
pub fn due(tick: u64) -> LabTime {
    ms(20.0 * tick as f64)
}

/// What is told, in whatever order.
pub struct Told(Recorder);

impl Told {
    /// The server and the player are there, and so is the player's entity.
    pub fn begin(arrangement: Arrangement) -> Self {
        let world = Arc::new(World {
            bounds: Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 },
            solids: Vec::new(),
            zones: Vec::new(),
        });
        let walker = Walker::new();
        let tunables = walker.tunables().iter().map(|t| t.default).collect();
        let kinds = Kinds::new(vec![Arc::new(walker)]).expect("a sound schema");
        let known = Known::new(kinds, vec![tunables], world.clone(), Vec::new());
        let knobs = Knobs {
            up: Conditions::PERFECT,
            down: Conditions::PERFECT,
            settings: ClientSettings::DEFAULT,
            served: velocitas_core::PlayerSettings::DEFAULT,
        };
        let machine = |name: &str, serves: bool| MachineInfo {
            name: name.to_owned(),
            serves,
            host: HostSpec::PERFECT,
            player: (!serves).then_some(Player { role: Role::Bot, arrangement, knobs }),
        };
        let with = Token(1);
        let cast = Cast::new(Beginning {
            title: "told".to_owned(),
            seed: 1,
            rate: Rate::new(50).expect("a rate"),
            first: Tick(FIRST),
            machines: vec![machine("server", true), machine("teal", false)],
            players: vec![(with, player())],
            things: Vec::new(),
            world,
            origin: Origin { text: "".into(), gaits: Arc::new([]), patience: Patience::DEFAULT, traces: Arc::new([]) },
            rules: [known.clone(), known],
            there: vec![There { entity: BODY, kind: 0, with: Some(with), owners: vec![with] }],
        });
        let mut told = Self(Recorder::new(cast));
        let (from, tick) = (address(player(), 0), Tick(FIRST));
        told.fact(LabTime::ZERO, MachineId::SERVER, Fact::Connected { peer: PEER, from, tick, again: false });
        told
    }

    pub fn fact(&mut self, at: LabTime, machine: MachineId, fact: Fact) {
        let part = if machine == MachineId::SERVER { Part::Server } else { Part::Client };
        self.0.event(at, machine, part, &Event::Fact(fact));
    }

    /// Something became of the input of a tick.
    pub fn input(&mut self, at: LabTime, tick: u64, fate: InputFate) {
        let (machine, part) = match fate {
            InputFate::Sampled => (player(), Part::Client),
            _ => (MachineId::SERVER, Part::Server),
        };
        let value = (fate == InputFate::Sampled).then(Input::default);
        let fact = InputFact { peer: PEER, entity: BODY, tick: Tick(FIRST + tick), fate };
        self.0.event(at, machine, part, &Event::Input(fact, value.as_ref()));
    }

    /// A state of the entity at a place east of the middle.
    pub fn state(&mut self, at: LabTime, made: Made, tick: u64, used: Option<u64>, east: f32) {
        let (machine, part) = match made {
            Made::Authority => (MachineId::SERVER, Part::Server),
            _ => (player(), Part::Client),
        };
        let state: State = Walker::new().spawn(vec3(east, 0.0, 0.0), 0.0);
        self.0.event(
            at,
            machine,
            part,
            &Event::State(StateEvent {
                entity: BODY,
                tick: Tick(FIRST + tick),
                used: used.map(|tick| Tick(FIRST + tick)),
                made,
                state: &state,
                input: None,
                contacts: &Contacts::default(),
                teleported: false,
            }),
        );
    }

    /// Inputs leave for the server, the newest of this tick; when they arrive, if they do.
    pub fn sent(&mut self, at: LabTime, number: u64, (newest, ticks): (u64, u8), arrived: Option<LabTime>) {
        let row = MessageRow {
            at,
            arrived: None,
            again: None,
            lost: false,
            unread: false,
            kind: MessageKind::Inputs,
            bytes: 40,
            tick: Some(RecordTick(newest as u32)),
            ticks,
            entity: Some(BODY),
            entities: 0,
            epoch: None,
            piece: None,
        };
        self.0.message(player(), MachineId::SERVER, row);
        if let Some(arrived) = arrived {
            self.0.arrived(arrived, player(), MachineId::SERVER, number);
        }
    }

    /// The guard measured this share of what it allows at most.
    pub fn measured(&mut self, at: LabTime, tick: u64, rule: Rule, measured: f32, limit: f32) {
        let (from, to) = (Tick(FIRST + tick - 1), Tick(FIRST + tick));
        let evidence = Evidence { rule, from, to, measured, limit, slack: 0.0, quantum: 0.0, allowed: 1.0, gain: 0.0 };
        let measure = Measure { peer: PEER, entity: BODY, evidence };
        self.0.event(at, MachineId::SERVER, Part::Server, &Event::Measure(measure));
    }

    /// All of it, up to a moment.
    pub fn until(mut self, end: LabTime) -> Record {
        self.0.record_mut().end = end;
        self.0.into_record()
    }
}

/// The player's entity in a record.
pub fn body(record: &Record) -> ActorId {
    record.cast.actor(BODY).expect("it is there from the beginning")
}

/// Nobody who is not told of is in it.
#[test]
fn who_is_told_of_is_there_and_nobody_else() {
    let record = Told::begin(Arrangement::SERVER).until(ms(10.0));
    assert_eq!(record.cast.machines().count(), 2);
    assert_eq!((record.cast.name(player()), record.cast.actors().count()), ("teal", 1));
    assert_eq!(record.cast.body(player(), ms(5.0)), Some(body(&record)));
    assert_eq!(record.shown(RecordTick(7)), FIRST + 7);
}
