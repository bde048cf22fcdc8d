//! What a link is like, in one direction.

/// One direction of a link.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Conditions {
    /// Mean delay one way, in milliseconds.
    pub latency_ms: f64,
    /// Standard deviation of the delay, in milliseconds.
    pub jitter_ms: f64,
    /// Time over which delays are alike, in milliseconds.
    pub correlation_ms: f64,
    /// Share of datagrams lost, 0 to 1.
    pub loss: f64,
    /// Share of datagrams that arrive twice.
    pub duplication: f64,
    /// Share of datagrams that are overtaken.
    pub reordering: f64,
    /// Datagrams are let through only so often, in milliseconds; 0 for always.
    pub bunch_ms: f64,
    /// How often a burst of loss begins, times a minute.
    pub bursts: f64,
    /// How long it lasts on average, in milliseconds.
    pub burst_ms: f64,
    /// Share of datagrams lost while it lasts.
    pub burst_loss: f64,
    /// How often nothing gets through for a while, times a minute.
    pub outages: f64,
    /// For how long, in milliseconds.
    pub outage_ms: f64,
    /// So many thousand bits a second get through, headers included; 0 for all.
    pub bandwidth: f64,
    /// As many kilobytes wait for that at most; what comes then is dropped.
    pub queue: f64,
    /// Which recorded trace of delays and losses it follows besides.
    pub trace: Option<TraceNumber>,
}

/// A recorded trace, by its place among those of a course.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TraceNumber(pub u8);

impl Conditions {
    /// Nothing happens to anything.
    pub const PERFECT: Self = Self {
        latency_ms: 0.0,
        jitter_ms: 0.0,
        correlation_ms: 80.0,
        loss: 0.0,
        duplication: 0.0,
        reordering: 0.0,
        bunch_ms: 0.0,
        bursts: 0.0,
        burst_ms: 400.0,
        burst_loss: 0.8,
        outages: 0.0,
        outage_ms: 1000.0,
        bandwidth: 0.0,
        queue: 64.0,
        trace: None,
    };
}
