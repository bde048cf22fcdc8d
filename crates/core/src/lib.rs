//! Fixed-tick movement netcode as plain state machines.
//!
//! [`Client`] and [`Server`] know no socket, no clock, no chance and no screen: datagrams and readings of a clock go
//! in, datagrams go out, and whoever wants to watch hands in a [`Sink`]. The lab runs them in virtual time; a real
//! network will run the same ones.
//!
//! What is not here: I/O, file formats, names of entities, links, anything made wrong on purpose.
//!
//! # The calling loop
//!
//! Once a frame, a client is given what came in and what is pressed, then the time; what it has to send and to draw is then asked for:
//!
//! ```no_run
//! # use velocitas_core::*;
//! # fn example(mut client: Client, now: HostNanos, received: Vec<Vec<u8>>, keys: Input) {
//! for bytes in received {
//!     let _ = client.handle_datagram(now, &bytes, &mut Unwatched); // strange ones are counted and dropped
//! }
//! for owned in client.owned().to_vec() {
//!     client.handle_controls(owned.entity, &keys); // what is down, and what was pressed since the last frame
//! }
//! client.handle_time(now, &mut Unwatched); // runs the ticks due
//! while let Some(datagram) = client.poll_transmit() {
//!     // send it to the server
//! }
//! client.draw(now, |entity, drawn| {
//!     // draw it
//! });
//! # }
//! ```
//!
//! A server likewise; its datagrams come from and go to [addresses](Address), which mean something to the caller only:
//!
//! ```no_run
//! # use velocitas_core::*;
//! # fn example(mut server: Server, now: HostNanos, received: Vec<(Address, Vec<u8>)>) {
//! for (from, bytes) in received {
//!     let _ = server.handle_datagram(now, from, &bytes, &mut Unwatched);
//! }
//! server.handle_time(now, &mut Unwatched);
//! while let Some((to, datagram)) = server.poll_transmit() {
//!     // send it there
//! }
//! # }
//! ```
//!
//! Where to begin reading: [`Motion`] (what a movement rule is), [`Client`] and [`Server`] (their call loops), then
//! [`wire`](Message) for what travels between them, and the guard ([`Rule`]) for what is refused.

#[doc(hidden)]
pub mod altered;
mod arrangement;
mod body;
mod client;
mod data;
mod ease;
mod echo;
mod event;
mod field;
mod float;
mod frame;
#[doc(hidden)]
pub mod fuzz;
mod ground;
mod ids;
mod motion;
pub mod names;
mod pacing;
mod plan;
mod policy;
mod quantiser;
mod remote;
mod rollback;
mod schema;
mod server;
mod session;
mod snapshot;
mod stream;
mod tick;
mod tick_loop;
mod vec3;
mod verdict;
pub mod walker;
mod wire;
mod world;

pub use arrangement::{Arrangement, Authority, OwnerSide};
pub use body::Body;
pub use client::{
    CameraOn, Client, ClientConfig, ClientSettings, ClockBy, ClockChange, ClockSettings, Known, LeadBy, Order,
    OwnSettings, Presence, Redundancy, Refused,
};
pub use data::{Digest, INPUT_LANES, Input, Lanes, STATE_LANES, State};
pub use ease::{EaseBy, Easing};
pub use echo::EchoBy;
pub use event::{
    ClockFact, Correction, Event, Fact, Gap, InputFact, InputFate, Made, Mask, Provenance, Restored, Sink, StateEvent,
    Unwatched,
};
pub use field::{
    Agree, Blend, InputField, InputKind, POINT_REACH, PRESS_BITS, SeenBy, Shape, StateField, bearing_quantiser,
    stick_quantiser,
};
pub use float::{canonical_bits, clamp, max, min, mix, mix_angle, wrap_angle};
pub use ground::{
    Bounds, Contacts, Ground, Hit, MOST_CONTACTS, SKIN, Slid, Slide, Solid, SolidId, Surface, Underfoot, Zone, slide,
    touching,
};
pub use ids::{Address, EntityId, Life, PeerId, Token};
pub use motion::{Burst, Hands, LIMITS, LimitOf, LimitSpec, Limits, Look, Motion, Scene, Step, Tunable, checked_step};
pub use pacing::SendRate;
pub use plan::Plan;
pub use policy::{AS_SAID, Policy, Response, Strikes};
pub use quantiser::Quantiser;
pub use remote::{
    BlendPlan, Blending, Drawn, DrawnSpot, DrawnState, LookBy, LookSettings, Looks, OnTheWay, Placed, RemoteSettings,
    RemotesAt, RunOn, Sample, Shown, Spot, SpotBlend, ViewBy, ViewDelay, drawn,
};
pub use rollback::{Entry, Rollback};
pub use schema::{MOST_KINDS, Schema, SchemaError};
pub use server::{
    Around, Carry, Check, ClaimCase, Finding, Footing, Going, Guest, Missing, Patience, PlayerSettings, Server,
    ServerConfig, SpawnError, Waiting, checks,
};
pub use session::{Ingredients, KindPrint, Kinds, Layouts, Owned, Timeline};
pub use snapshot::{Crowd, Receiver};
pub use stream::{InputsOver, Over};
pub use tick::{HostNanos, Rate, Tick, TickOutOfReach, WIRE_REACH, WireTick};
pub use tick_loop::{Due, TickLoop};
pub use vec3::{Vec3, vec3};
pub use verdict::{Answer, Evidence, Exhibit, MOST_CORNERS, Measure, Path, RULES, Rule, RuleSpec, Verdict, share};
pub use wire::{
    Account, Ack, Acks, BitReader, BitRow, BitWriter, Body as SnapshotBody, Carried, Challenge, Claim, ClockTold,
    Denied, Difference, Ended, EndedBy, EntityRecord, EntityRef, FieldValue, ForeignLayout, Header, Hello, Inputs,
    MAX_DATAGRAM, MAX_REPEATS, MOST_OWNERS, Message, MessageKind, News, PROTOCOL_VERSION, PullBack, PullReason,
    Refusal, RefusedFor, Segment, SegmentHead, Snapshot, SnapshotHead, StateDown, TELEPORT_BITS, Used, Welcome,
    WireError, WireField, snapshot_bytes, write_snapshot,
};
pub use world::{Entity, World};
