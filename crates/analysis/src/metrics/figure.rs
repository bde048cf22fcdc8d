//! The table of figures: what each is called, its unit, what it says, and where it is had from.
//!
//! The report for people and the page about the report are made from it; the JSON report has its keys.

use super::ClientMetrics;

/// What a figure counts in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// A word, not a number.
    Word,
    /// Whole things.
    Count,
    /// Bytes.
    Bytes,
    /// Metres.
    Metres,
    /// Milliseconds.
    Millis,
    /// Ticks.
    Ticks,
    /// A share, 0 to 1.
    Share,
    /// Metres a second.
    MetresPerSecond,
    /// A number a minute.
    Rate,
}

impl Unit {
    /// As documents name it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Word => "",
            Self::Count => "count",
            Self::Bytes => "bytes",
            Self::Metres => "m",
            Self::Millis => "ms",
            Self::Ticks => "ticks",
            Self::Share => "share",
            Self::MetresPerSecond => "m/s",
            Self::Rate => "a minute",
        }
    }
}

/// A figure's value.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// A word.
    Word(&'static str),
    /// A number; `None` without samples.
    Number(Option<f64>),
}

/// A figure's row in the table.
#[derive(Clone, Copy, Debug)]
pub struct Figure {
    /// Its key in the report, with dots between those inside each other; `None` for what is worked out from others.
    pub key: Option<&'static str>,
    /// Its name in the table for people, if it is in there.
    pub name: Option<&'static str>,
    /// What it counts in.
    pub unit: Unit,
    /// What it says.
    pub help: &'static str,
    /// Its value.
    pub get: fn(&ClientMetrics) -> Value,
}

fn count(n: impl Into<u64>) -> Value {
    Value::Number(Some(n.into() as f64))
}

const fn figure(
    key: &'static str,
    name: Option<&'static str>,
    unit: Unit,
    help: &'static str,
    get: fn(&ClientMetrics) -> Value,
) -> Figure {
    Figure { key: Some(key), name, unit, help, get }
}

const FLICKERS_OF_OTHERS: &str = "how often somebody left one of its rule's `looks` and had it again within half a second, by how fast it was drawn to go along the ground; \
                                  of others, a minute of being seen";

/// The table, in the order of the table for people.
pub static FIGURES: &[Figure] = &[
    figure("kind", Some("kind"), Unit::Word, "helm, bot or rogue", |m| Value::Word(m.kind)),
    figure("arrangement", Some("arrangement"), Unit::Word, "who decides where it is", |m| Value::Word(m.arrangement)),
    figure(
        "corrections.count",
        Some("corrections"),
        Unit::Count,
        "how often its present was rewritten by more than the fields' tolerances",
        |m| count(m.corrections.count),
    ),
    figure(
        "corrections.teleported",
        None,
        Unit::Count,
        "of these, teleports by the server: drawn as a cut, not counted as jumps",
        |m| count(m.corrections.teleported),
    ),
    figure(
        "corrections.jumps_seen",
        Some("  seen to jump"),
        Unit::Count,
        "frames in which it jumped; several corrections in one frame count once",
        |m| count(m.corrections.jumps_seen),
    ),
    figure(
        "corrections.unexplained",
        Some("  unexplained"),
        Unit::Count,
        "of these, those for which no cause was found by trying",
        |m| count(m.corrections.unexplained),
    ),
    figure(
        "corrections.mean_m",
        Some("  mean jump"),
        Unit::Metres,
        "how far corrections moved the newest predicted position, without teleports and without those that did not move it: mean",
        |m| Value::Number(m.corrections.mean_m),
    ),
    figure("corrections.p95_m", None, Unit::Metres, "the same: 95th percentile", |m| {
        Value::Number(m.corrections.p95_m)
    }),
    figure("corrections.max_m", Some("  largest jump"), Unit::Metres, "the same: largest", |m| {
        Value::Number(m.corrections.max_m)
    }),
    figure("corrections.replayed_ticks", Some("  ticks replayed"), Unit::Count, "ticks simulated again, in all", |m| {
        count(m.corrections.replayed_ticks)
    }),
    figure(
        "prediction_error_m.p50",
        None,
        Unit::Metres,
        "the owner's first prediction of a tick against the authority at that tick: median",
        |m| Value::Number(m.prediction_error_m.p50),
    ),
    figure("prediction_error_m.p95", Some("prediction error p95"), Unit::Metres, "the same: 95th percentile", |m| {
        Value::Number(m.prediction_error_m.p95)
    }),
    figure("prediction_error_m.max", None, Unit::Metres, "the same: largest", |m| {
        Value::Number(m.prediction_error_m.max)
    }),
    figure("joining.connections", Some("connections"), Unit::Count, "connections that began", |m| {
        count(m.joining.connections)
    }),
    figure("joining.refusals", Some("refusals"), Unit::Count, "how often the server did not let it in", |m| {
        count(m.joining.refusals)
    }),
    figure("joining.there_ms", None, Unit::Millis, "how long its program ran, from the beginning of the run", |m| {
        Value::Number(Some(m.joining.there_ms))
    }),
    figure(
        "joining.bytes",
        Some("bytes of joining"),
        Unit::Bytes,
        "payload of hellos and all answers to them, both ways",
        |m| count(m.joining.bytes),
    ),
    figure(
        "seen_after_ms.p50",
        Some("seen after p50"),
        Unit::Millis,
        "from an entity's birth, or the start of this machine's program (or when it asked anew, `unheard`) where that was later, to the first frame in which \
         this machine draws it: median",
        |m| Value::Number(m.seen_after_ms.p50),
    ),
    figure("seen_after_ms.max", Some("seen after, most"), Unit::Millis, "the same: largest", |m| {
        Value::Number(m.seen_after_ms.max)
    }),
    figure(
        "inputs.sampled",
        Some("inputs sampled"),
        Unit::Count,
        "inputs (or claims) sent; each has one of the fates that follow, so those add up to this",
        |m| count(m.inputs.sampled),
    ),
    Figure {
        key: None,
        name: Some("  used as sent"),
        unit: Unit::Share,
        help: "share of the ticks for which the server had what was sent",
        get: |m| Value::Number(m.inputs.fresh_share()),
    },
    figure("inputs.fresh", None, Unit::Count, "their tick was made with them", |m| count(m.inputs.fresh)),
    figure("inputs.late", Some("  late"), Unit::Count, "arrived after their tick was made", |m| count(m.inputs.late)),
    figure(
        "inputs.passed_over",
        Some("  passed over"),
        Unit::Count,
        "arrived for ticks that the server passed over after it had stood still",
        |m| count(m.inputs.passed_over),
    ),
    figure(
        "inputs.outdated",
        Some("  outdated"),
        Unit::Count,
        "claims dropped since they go on from before a pull back",
        |m| count(m.inputs.outdated),
    ),
    figure("inputs.refused", Some("  refused"), Unit::Count, "arrived in time, and the guard did not take them", |m| {
        count(m.inputs.refused)
    }),
    figure(
        "inputs.unused",
        Some("  unused"),
        Unit::Count,
        "arrived in time for ticks made by another owner's word, or after the connection had ended",
        |m| count(m.inputs.unused),
    ),
    figure(
        "inputs.lost",
        Some("  lost"),
        Unit::Count,
        "all datagrams that carried them were lost, or thrown away by a full socket",
        |m| count(m.inputs.lost),
    ),
    figure(
        "inputs.unheard",
        Some("  unheard"),
        Unit::Count,
        "arrived where nobody took them: the connection was no more or not yet, or the tick far off",
        |m| count(m.inputs.unheard),
    ),
    figure(
        "inputs.under_way",
        Some("  under way"),
        Unit::Count,
        "on their way at the end, or waiting for their tick",
        |m| count(m.inputs.under_way),
    ),
    figure(
        "inputs.latest_ms",
        Some("  latest"),
        Unit::Millis,
        "how long after its tick was made the latest of the late arrived",
        |m| Value::Number(m.inputs.latest_ms),
    ),
    figure(
        "inputs.repeated",
        Some("ticks made up"),
        Unit::Count,
        "ticks for which the server made an input up: keys held on",
        |m| count(m.inputs.repeated),
    ),
    figure(
        "inputs.rested",
        Some("  at rest"),
        Unit::Count,
        "ticks for which it made one up after `hold`: keys up",
        |m| count(m.inputs.rested),
    ),
    figure(
        "inputs.never_sampled",
        Some("  never sampled"),
        Unit::Count,
        "of all ticks made up, those without any input: the client passed over them, or was gone",
        |m| count(m.inputs.never_sampled),
    ),
    figure(
        "margin_ticks.p05",
        Some("margin p05, ticks"),
        Unit::Ticks,
        "how early inputs reached the server before they were needed, negative is late: 5th percentile",
        |m| Value::Number(m.margin_ticks.p05),
    ),
    figure("margin_ticks.p50", None, Unit::Ticks, "the same: median", |m| Value::Number(m.margin_ticks.p50)),
    figure(
        "view_age_ms.p50",
        Some("view age p50"),
        Unit::Millis,
        "moment of a frame minus the moment at which the server made the state drawn, of other entities, every frame: median",
        |m| Value::Number(m.view_age_ms.p50),
    ),
    figure("view_age_ms.p95", None, Unit::Millis, "the same: 95th percentile", |m| Value::Number(m.view_age_ms.p95)),
    figure(
        "others.lag_ms",
        Some("lag"),
        Unit::Millis,
        "how long before a frame the server made what is drawn in it, mean of a window of a second, of others: median of the windows",
        |m| Value::Number(m.others.lag_ms),
    ),
    figure(
        "others.drawn_error_m.p50",
        None,
        Unit::Metres,
        "from where they are drawn to where the server had them a window's lag before, of others, every frame: median",
        |m| Value::Number(m.others.drawn_error_m.p50),
    ),
    figure("others.drawn_error_m.p95", Some("drawn error p95"), Unit::Metres, "the same: 95th percentile", |m| {
        Value::Number(m.others.drawn_error_m.p95)
    }),
    figure("others.drawn_error_m.max", None, Unit::Metres, "the same: largest", |m| {
        Value::Number(m.others.drawn_error_m.max)
    }),
    figure(
        "others.roughness_mps.p50",
        None,
        Unit::MetresPerSecond,
        "RMS of drawn minus true velocity in a window in which it moved 10 cm, of others: median of the windows",
        |m| Value::Number(m.others.roughness_mps.p50),
    ),
    figure(
        "others.roughness_mps.p95",
        Some("roughness p95"),
        Unit::MetresPerSecond,
        "the same: 95th percentile",
        |m| Value::Number(m.others.roughness_mps.p95),
    ),
    figure(
        "others.judder_mps.p50",
        None,
        Unit::MetresPerSecond,
        "RMS of how far the drawn velocity of a frame is from the mean of those before and after it, in a window in which it moved 10 cm, of others: median of the windows",
        |m| Value::Number(m.others.judder_mps.p50),
    ),
    figure("others.judder_mps.p95", Some("judder p95"), Unit::MetresPerSecond, "the same: 95th percentile", |m| {
        Value::Number(m.others.judder_mps.p95)
    }),
    figure(
        "others.hops_per_min",
        Some("hops a minute"),
        Unit::Rate,
        "frames in which it was seen to jump: it moved otherwise than the server had it, and than it was drawn to move around that frame; of others, a minute of being seen",
        |m| Value::Number(m.others.hops_per_min),
    ),
    figure(
        "extrapolated_share",
        Some("extrapolated"),
        Unit::Share,
        "share of frames of others drawn past the newest state",
        |m| Value::Number(m.extrapolated_share),
    ),
    figure("held_share", Some("held"), Unit::Share, "share of frames of others standing past the limit of that", |m| {
        Value::Number(m.held_share)
    }),
    figure(
        "own.lag_ms",
        Some("own lag"),
        Unit::Millis,
        "how long before a frame the server made what is drawn in it, mean of a window of a second, of its own: median of the windows; negative: ahead of the server",
        |m| Value::Number(m.own.lag_ms),
    ),
    figure(
        "own.drawn_error_m.p50",
        None,
        Unit::Metres,
        "from where they are drawn to where the server had them a window's lag before, of its own, every frame: median",
        |m| Value::Number(m.own.drawn_error_m.p50),
    ),
    figure("own.drawn_error_m.p95", Some("own drawn error p95"), Unit::Metres, "the same: 95th percentile", |m| {
        Value::Number(m.own.drawn_error_m.p95)
    }),
    figure("own.drawn_error_m.max", None, Unit::Metres, "the same: largest", |m| {
        Value::Number(m.own.drawn_error_m.max)
    }),
    figure(
        "own.roughness_mps.p50",
        None,
        Unit::MetresPerSecond,
        "RMS of drawn minus true velocity in a window in which it moved 10 cm, of its own: median of the windows",
        |m| Value::Number(m.own.roughness_mps.p50),
    ),
    figure(
        "own.roughness_mps.p95",
        Some("own roughness p95"),
        Unit::MetresPerSecond,
        "the same: 95th percentile",
        |m| Value::Number(m.own.roughness_mps.p95),
    ),
    figure(
        "own.judder_mps.p50",
        None,
        Unit::MetresPerSecond,
        "RMS of how far the drawn velocity of a frame is from the mean of those before and after it, in a window in which it moved 10 cm, of its own: median of the windows",
        |m| Value::Number(m.own.judder_mps.p50),
    ),
    figure("own.judder_mps.p95", Some("own judder p95"), Unit::MetresPerSecond, "the same: 95th percentile", |m| {
        Value::Number(m.own.judder_mps.p95)
    }),
    figure(
        "own.hops_per_min",
        Some("own hops a minute"),
        Unit::Rate,
        "frames in which it was seen to jump: it moved otherwise than the server had it, and than it was drawn to move around that frame; of its own, a minute of being seen",
        |m| Value::Number(m.own.hops_per_min),
    ),
    figure("others.flickers_per_min", Some("flickers a minute"), Unit::Rate, FLICKERS_OF_OTHERS, |m| {
        Value::Number(m.others.flickers_per_min)
    }),
    figure("own.flickers_per_min", None, Unit::Rate, "the same of its own", |m| Value::Number(m.own.flickers_per_min)),
    figure(
        "camera_judder_mps.p50",
        None,
        Unit::MetresPerSecond,
        "judder of a camera that follows its own, as it moves that (`camera`): how unevenly all that stands is seen to pass; median of the windows",
        |m| Value::Number(m.camera_judder_mps.p50),
    ),
    figure("camera_judder_mps.p95", None, Unit::MetresPerSecond, "the same: 95th percentile", |m| {
        Value::Number(m.camera_judder_mps.p95)
    }),
    figure(
        "echo.apart_m.p50",
        None,
        Unit::Metres,
        "from where others were sent that its own is to where the server had it, in ticks in which these differed: median",
        |m| Value::Number(m.echo.apart_m.p50),
    ),
    figure("echo.apart_m.p95", None, Unit::Metres, "the same: 95th percentile", |m| Value::Number(m.echo.apart_m.p95)),
    figure("echo.apart_m.max", Some("echoes apart, most"), Unit::Metres, "the same: largest", |m| {
        Value::Number(m.echo.apart_m.max)
    }),
    figure(
        "echo.cuts",
        Some("  cut"),
        Unit::Count,
        "how often its smooth echo was put where the server had it, as they had been too far apart for half a second",
        |m| count(m.echo.cuts),
    ),
    figure(
        "responses",
        None,
        Unit::Count,
        "presses at rest that moved the own character; `response_ms` is their median",
        |m| count(m.responses),
    ),
    figure(
        "response_ms",
        Some("response"),
        Unit::Millis,
        "from the moment in which hands at rest move to the first frame in which the own character moves: median",
        |m| Value::Number(m.response_ms),
    ),
    figure(
        "seen_ms.p50",
        Some("seen by others"),
        Unit::Millis,
        "from that moment to the first frame on another screen that shows a tick which used it, of all other screens: median",
        |m| Value::Number(m.seen_ms.p50),
    ),
    figure("seen_ms.p95", None, Unit::Millis, "the same: 95th percentile", |m| Value::Number(m.seen_ms.p95)),
    figure("bytes_up", Some("bytes up"), Unit::Bytes, "payload sent", |m| count(m.bytes_up)),
    figure("bytes_down", Some("bytes down"), Unit::Bytes, "payload sent to it, lost or not", |m| count(m.bytes_down)),
    figure("bytes_up_udp", None, Unit::Bytes, "payload sent, with 28 bytes a datagram for IPv4 and UDP", |m| {
        count(m.bytes_up_udp)
    }),
    figure("bytes_down_udp", None, Unit::Bytes, "payload sent to it, with 28 bytes a datagram", |m| {
        count(m.bytes_down_udp)
    }),
    figure(
        "stream.sent_again",
        None,
        Unit::Count,
        "messages of an ordered stream, both ways, that had been sent before",
        |m| count(m.stream.sent_again),
    ),
    figure(
        "stream.held_back",
        None,
        Unit::Count,
        "messages of an ordered stream, both ways, that had come and waited for one sent before them",
        |m| count(m.stream.held_back),
    ),
    figure("stream.longest_ms", None, Unit::Millis, "for how long one waited at most", |m| {
        Value::Number(m.stream.longest_ms)
    }),
    figure(
        "stream.full",
        None,
        Unit::Count,
        "messages that were not sent, as there was no room for them in an ordered stream",
        |m| count(m.stream.full),
    ),
    figure("verdicts", Some("verdicts"), Unit::Count, "accusations; in the report by rule", |m| {
        count(m.verdicts.values().sum::<u32>())
    }),
    figure(
        "resyncs",
        Some("resyncs"),
        Unit::Count,
        "put back without an accusation; by reason under `resync_reasons`",
        |m| count(m.resyncs),
    ),
    figure(
        "gain_m",
        None,
        Unit::Metres,
        "rogues: metres beyond what the rule allows that tricks gained and kept, answered or not",
        |m| Value::Number(m.gain_m),
    ),
    figure(
        "gain_peak_m",
        None,
        Unit::Metres,
        "rogues: the most of that which one trick had at any moment, before a pull back",
        |m| Value::Number(m.gain_peak_m),
    ),
    figure(
        "gain_pressed_m",
        None,
        Unit::Metres,
        "rogues: metres beyond what the hands pressed that tricks gained and kept, whether the rule allows them or not",
        |m| Value::Number(m.gain_pressed_m),
    ),
    figure(
        "gain_pressed_peak_m",
        None,
        Unit::Metres,
        "rogues: the most of that which one trick had at any moment, before a pull back",
        |m| Value::Number(m.gain_pressed_peak_m),
    ),
    figure("tricks", None, Unit::Count, "rogues: tricks played and over, or answered before that", |m| {
        Value::Number(m.tricks.map(f64::from))
    }),
    figure(
        "tricks_answered",
        None,
        Unit::Count,
        "rogues: of these, those with a verdict between whose `from_tick` and `to_tick`, both included, lies one of their ticks",
        |m| Value::Number(m.tricks_answered.map(f64::from)),
    ),
    figure(
        "tricks_idle",
        None,
        Unit::Count,
        "rogues: of these, how many could have no effect (every tick came out as the rule would have it: no wall was met, the \
         stick was at rest; or the server took none of them) and were not answered either",
        |m| Value::Number(m.tricks_idle.map(f64::from)),
    ),
];
