//! A known piece of work and nothing else, to be counted by whoever runs it: `cost CASE SECONDS`. `scripts/cost` counts the instructions
//! of a second as those of fifteen less those of five, by ten.

use std::sync::Arc;

use velocitas_core::{
    Address, Arrangement, Bounds, Client, ClientConfig, ClientSettings, Ground, Guest, HostNanos, Ingredients, Input,
    InputKind, Kinds, Life, Motion, Patience, PlayerSettings, Policy, Rate, Server, ServerConfig, Solid, SolidId, Tick,
    Token, Unwatched, vec3,
};
use velocitas_lab::{Course, Lab, Run};
use velocitas_record::{LabTime, Unrecorded};

/// Does something for a number of seconds.
type Work = fn(f64);

/// What can be asked for.
const CASES: [(&str, Work); 5] = [
    ("record", |seconds| {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        figures(&mut run, seconds);
    }),
    ("figures", |seconds| {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.keep_figures();
        figures(&mut run, seconds);
    }),
    ("neither", |seconds| {
        let mut lab = Lab::new(Arc::new(Course::demo()));
        lab.advance(LabTime::from_secs(seconds), &mut Unrecorded);
        assert!(lab.bytes() > 0, "it runs");
    }),
    ("couriers", |seconds| {
        let mut run = Run::new(couriers()).expect("they fit");
        run.keep_figures();
        figures(&mut run, seconds);
    }),
    ("claims", claims),
];

fn main() -> Result<(), String> {
    let mut args = std::env::args().skip(1);
    let case = args.next().and_then(|name| CASES.iter().find(|(known, _)| *known == name));
    let seconds = args.next().and_then(|seconds| seconds.parse().ok());
    match case.zip(seconds) {
        Some(((_, work), seconds)) => {
            work(seconds);
            Ok(())
        }
        None => {
            let names: Vec<&str> = CASES.iter().map(|(name, _)| *name).collect();
            Err(format!("expected cost CASE SECONDS, where CASE is one of {}", names.join(", ")))
        }
    }
}

fn figures(run: &mut Run, seconds: f64) {
    run.meter();
    run.advance(LabTime::from_secs(seconds));
    assert!(!run.measured().clients.is_empty(), "somebody plays");
}

/// Forty-eight who walk a triangle each, all seen by all.
fn couriers() -> Course {
    let mut text = "format = 1\nname = \"couriers\"\nseed = 3\ntick_rate = \"60 Hz\"\nworld = { min = [-60, -60], max = [60, 60] }\n\
                    [link.home]\nlatency = \"40 ms\"\njitter = \"6 ms\"\nloss = \"1 %\"\n"
        .to_owned();
    for n in 0..48 {
        let (x, y) = (n % 8 * 14 - 50, n / 8 * 14 - 40);
        let (east, north) = (x + 6, y + 6);
        text += &format!(
            "[[cast]]\nname = \"c{n}\"\nrole = \"bot\"\ngait = \"courier.gait\"\nspawn = [{x}, {y}]\nlink = \"home\"\n\
             route = [{{ at = [{east}, {y}] }}, {{ at = [{east}, {north}], hold = [\"sprint\"] }}, {{ at = [{x}, {y}] }}]\n"
        );
    }
    Course::parse("couriers.course.toml", &text, &[]).unwrap_or_else(|why| panic!("{why}"))
}

/// What somebody says in a tick.
type Said = Vec<(Address, Vec<u8>)>;

/// A server of 48 couriers who claim, and what they say.
struct Claims {
    rate: Rate,
    ingredients: Ingredients,
    rule: Arc<dyn Motion>,
}

impl Claims {
    const PLAYERS: u64 = 48;

    fn new() -> Self {
        let compiled = velocitas_gait::compile(&velocitas_lab::shipped_gait("courier.gait").expect("it ships"));
        let rule: Arc<dyn Motion> = Arc::new(compiled.gait.expect("it ships"));
        let kinds = Kinds::new(vec![rule.clone()]).expect("a sound schema");
        let solid = |i: u16| Solid {
            id: SolidId(i),
            x: f32::from(i % 5) * 18.0 - 36.0,
            y: f32::from(i / 5) * 20.0 - 30.0,
            half_x: 1.0 + f32::from(i % 3),
            half_y: 1.5,
            yaw: f32::from(i) * 0.3,
            low: 0.0,
            high: 2.0,
        };
        let bounds = Bounds { min: (-90.0, -60.0), max: (90.0, 60.0), floor: 0.0 };
        let ground = Ground::new(bounds, (0..20).map(solid).collect(), Vec::new());
        let rate = Rate::new(60).expect("60 Hz");
        Self { rate, ingredients: Ingredients::new(Arc::new(ground), &kinds), rule }
    }

    fn server(&self) -> Server {
        let mut server = Server::new(ServerConfig {
            rate: self.rate,
            base: Tick(0),
            start: HostNanos(0),
            ingredients: self.ingredients.clone(),
            patience: Patience::DEFAULT,
            policy: Policy::default(),
            secret: 1,
        });
        for n in 0..Self::PLAYERS {
            let at = vec3((n % 8) as f32 * 12.0 - 48.0, (n / 8) as f32 * 12.0 - 28.0, 0.002);
            let body = Some((0, self.rule.spawn(at, 0.0)));
            server.invite(Guest {
                token: Token(n),
                arrangement: Arrangement::CLAIMS,
                settings: PlayerSettings::DEFAULT,
                body,
            });
        }
        server
    }

    fn client(&self, n: u64) -> Client {
        Client::new(ClientConfig {
            token: Token(n),
            life: Life(1),
            arrangement: Arrangement::CLAIMS,
            settings: ClientSettings::DEFAULT,
            ingredients: self.ingredients.clone(),
        })
    }

    /// What hands give: ahead, turning slowly.
    fn hands(&self, n: u64, tick: u64) -> Input {
        let mut input = Input::default();
        for field in &self.rule.schema().input {
            match field.kind {
                InputKind::Stick { .. } => input.set_real(field.lane + 1, 1.0),
                InputKind::Bearing { .. } => {
                    input.set_real(field.lane, (tick as f32 * 0.01 + n as f32).rem_euclid(6.0) - 3.0);
                }
                _ => {}
            }
        }
        input
    }

    fn now(tick: u64) -> HostNanos {
        HostNanos(0).plus(i64::try_from(tick * 16_666_667).unwrap_or(0))
    }

    /// What all of them say, tick by tick, and how many bytes the server answers.
    fn said(&self, ticks: u64) -> (Vec<Said>, usize) {
        let (mut server, mut clients) = (self.server(), (0..Self::PLAYERS).map(|n| self.client(n)).collect::<Vec<_>>());
        let (mut all, mut answered) = (Vec::new(), 0);
        for tick in 0..ticks {
            let mut said = Vec::new();
            for (n, client) in (0..).zip(&mut clients) {
                for owned in client.owned().to_vec() {
                    client.handle_controls(owned.entity, &self.hands(n, tick));
                }
                client.handle_time(Self::now(tick), &mut Unwatched);
                said.extend(std::iter::from_fn(|| client.poll_transmit()).map(|bytes| (Address(n), bytes)));
            }
            answered += Self::tick(&mut server, tick, &said, |to, bytes| {
                let client = &mut clients[to.0 as usize];
                client.handle_datagram(Self::now(tick), bytes, &mut Unwatched).expect("our own");
            });
            all.push(said);
        }
        assert!(clients.iter().all(|client| client.owned().len() == 1), "they play");
        (all, answered)
    }

    /// A tick of the server: what is said to it, and what it says. Gives the bytes of that.
    fn tick(server: &mut Server, tick: u64, said: &Said, mut told: impl FnMut(Address, &[u8])) -> usize {
        for (from, bytes) in said {
            server.handle_datagram(Self::now(tick), *from, bytes, &mut Unwatched).expect("our own");
        }
        server.handle_time(Self::now(tick), &mut Unwatched);
        let mut answered = 0;
        while let Some((to, bytes)) = server.poll_transmit() {
            answered += bytes.len();
            told(to, &bytes);
        }
        answered
    }
}

/// The server alone: what its clients say is always made for the same time, and so costs the same however long it is asked for.
fn claims(seconds: f64) {
    const LONGEST: u64 = 15 * 60;
    let it = Claims::new();
    let (all, answered) = it.said(LONGEST);
    let mut server = it.server();
    let ticks = ((seconds * 60.0) as u64).min(LONGEST);
    let mut bytes = 0;
    for (tick, said) in (0..ticks).zip(&all) {
        bytes += Claims::tick(&mut server, tick, said, |_, _| {});
    }
    assert!(ticks < LONGEST || bytes == answered, "it answers the same");
}
