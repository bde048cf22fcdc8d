//! What `velocitas guard` has to say: how near the honest came to each limit, and what every cheat comes to.

use std::fmt::Write as _;

use serde::Serialize;
use velocitas_analysis::nearness::{BIN, BINS};
use velocitas_record::LabTime;
use velocitas_vet::breach::Breach;

/// One rule, over all runs.
#[derive(Clone, Debug, Serialize)]
pub struct RuleRow {
    /// Its name.
    pub rule: &'static str,
    /// Of whoever is honest.
    pub honest: Spread,
    /// Of rogues.
    pub rogues: Spread,
    /// The least slack that would have accused nobody honest, as a share; nothing where the rule knows none.
    pub least_slack: Option<f64>,
    /// The slack that is allowed.
    pub slack: Option<f64>,
}

/// How claims lie, as shares of what is allowed.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Spread {
    /// How many were measured.
    pub claims: u64,
    /// How many were more than is allowed.
    pub beyond: u64,
    /// Half of them were at most this, in steps of 2.5 %.
    pub p50: Option<f64>,
    /// Ninety-nine of a hundred.
    pub p99: Option<f64>,
    /// The greatest that was lawful.
    pub nearest: Option<Nearest>,
}

/// Who came nearest to a limit without exceeding it.
#[derive(Clone, Debug, Serialize)]
pub struct Nearest {
    /// What was measured as a share of what is allowed.
    pub share: f64,
    /// Who.
    pub who: String,
    /// When, in milliseconds of lab time.
    pub at_ms: f64,
    /// With which seed.
    pub seed: u64,
}

impl Spread {
    /// Of counts by bin.
    pub fn of(bins: &[u64; BINS], beyond: u64, nearest: Option<Nearest>) -> Self {
        let claims: u64 = bins.iter().sum();
        let percentile = |share: f64| {
            let rank = (claims as f64 * share).ceil().max(1.0) as u64;
            let mut sum = 0;
            let bin = bins.iter().position(|count| {
                sum += count;
                sum >= rank
            })?;
            Some((bin + 1) as f64 * BIN)
        };
        let (p50, p99) = (percentile(0.5), percentile(0.99));
        Self { claims, beyond, p50, p99, nearest }
    }
}

/// A member, attacked.
#[derive(Clone, Debug, Serialize)]
pub struct MemberRow {
    /// Its name.
    pub name: String,
    /// Its rule.
    pub gait: String,
    /// Who decides where it is.
    pub arrangement: &'static str,
    /// Each cheat.
    pub cheats: Vec<CheatRow>,
    /// How many mixtures a search tried beyond those.
    pub searched: u32,
    /// The one that gained the most without being found with any seed.
    pub mixture: Option<MixtureRow>,
}

/// Cheats at once.
#[derive(Clone, Debug, Serialize)]
pub struct MixtureRow {
    /// Each, and how far.
    pub cheats: Vec<(&'static str, f32)>,
    /// Metres a minute more than without them.
    pub gain_m_per_min: f64,
    #[serde(skip)]
    words: String,
}

impl MixtureRow {
    /// Of a mixture, and what it gains.
    pub fn of(mixture: &velocitas_vet::crafty::Mixture, gain: f64) -> Self {
        let words = |a: &velocitas_vet::breach::Attempt| match unit(a.spec.takes) {
            "" => a.spec.key.to_owned(),
            unit => format!("{} {:.3}{unit}", a.spec.key, a.amount),
        };
        Self {
            cheats: mixture.0.iter().map(|a| (a.spec.key, a.amount)).collect(),
            gain_m_per_min: gain,
            words: mixture.0.iter().map(words).collect::<Vec<_>>().join(" and "),
        }
    }
}

/// The unit of how far, with a space before it.
const fn unit(takes: velocitas_record::Takes) -> &'static str {
    use velocitas_record::Takes;
    match takes {
        Takes::Factor => " times",
        Takes::Length => " m",
        Takes::Speed => " m/s",
        Takes::Time => " ms",
        _ => "",
    }
}

/// A cheat, from the least size to the greatest.
#[derive(Clone, Debug, Serialize)]
pub struct CheatRow {
    /// Its name.
    pub cheat: &'static str,
    /// The least size from which on it was always found, and how long that took at most.
    pub found_from: Option<f32>,
    /// In milliseconds.
    pub found_within_ms: Option<f64>,
    /// With how many seeds the greatest size that was tried was found …
    pub greatest_found: usize,
    /// … of how many.
    pub seeds: usize,
    /// The size that gained the most without being found.
    pub unfound: Option<f32>,
    /// Metres a minute more than without it.
    pub unfound_gain_m_per_min: Option<f64>,
    /// The size of which the most goes unanswered in the median of its seeds …
    pub unanswered: Option<f32>,
    /// … and how many metres a minute, of way or height, that is beyond what slack and rounding explain and half a metre.
    pub unanswered_m_per_min: Option<f64>,
    /// Why it does nothing here, whatever happens.
    pub idle: Option<&'static str>,
    #[serde(skip)]
    unit: &'static str,
}

/// How many seeds it takes to say *always*: one that fails in a twentieth of cases shows itself among them in 95 of a hundred.
const ALWAYS: usize = 59;

impl CheatRow {
    /// Of what came of it.
    pub fn of(breach: &Breach) -> Self {
        let unit = unit(breach.spec.takes);
        Self {
            cheat: breach.spec.key,
            found_from: breach.found_from.map(|(amount, _)| amount),
            found_within_ms: breach.found_from.map(|(_, after)| after.millis()),
            greatest_found: breach.greatest.0,
            seeds: breach.greatest.1,
            unfound: breach.unfound.map(|(amount, _)| amount),
            unfound_gain_m_per_min: breach.unfound.map(|(_, gain)| gain),
            unanswered: breach.unanswered.map(|(amount, _)| amount),
            unanswered_m_per_min: breach.unanswered.map(|(_, gain)| gain),
            idle: None,
            unit,
        }
    }

    /// Of one that does nothing here.
    pub const fn idle(spec: &velocitas_lab::CheatSpec, why: &'static str) -> Self {
        Self {
            cheat: spec.key,
            found_from: None,
            found_within_ms: None,
            greatest_found: 0,
            seeds: 0,
            unfound: None,
            unfound_gain_m_per_min: None,
            unanswered: None,
            unanswered_m_per_min: None,
            idle: Some(why),
            unit: "",
        }
    }

    fn text(&self) -> String {
        if let Some(why) = self.idle {
            return format!("{:<10} does nothing here: {why}", self.cheat);
        }
        let size = |amount: f32| if self.unit.is_empty() { String::new() } else { format!(" {amount}{}", self.unit) };
        let found = match (self.found_from, self.found_within_ms) {
            (Some(from), Some(ms)) => {
                let from = if self.unit.is_empty() { String::new() } else { format!(" from{} on", size(from)) };
                let times = match self.seeds {
                    ALWAYS.. => format!("always found ({} of {})", self.seeds, self.seeds),
                    _ => format!("found in {} of {} seeds", self.seeds, self.seeds),
                };
                format!("{times}{from}, within {:.2} s", ms / 1e3)
            }
            _ if self.greatest_found == 0 && self.unit.is_empty() => "never found".to_owned(),
            _ if self.unit.is_empty() => format!("found in {} of {} seeds", self.greatest_found, self.seeds),
            _ if self.greatest_found == 0 => "never found, not even the most that was tried".to_owned(),
            _ => format!("the most that was tried is found in {} of {} seeds", self.greatest_found, self.seeds),
        };
        let unfound = match (self.unfound, self.unfound_gain_m_per_min) {
            (Some(amount), Some(gain)) => format!(";{} unfound gains {gain:+.1} m a minute", size(amount)),
            _ => String::new(),
        };
        let unanswered = match (self.unanswered, self.unanswered_m_per_min) {
            (Some(amount), Some(gain)) => format!(";{} goes unanswered by {gain:.1} m a minute", size(amount)),
            _ => String::new(),
        };
        format!("{:<10} {found}{unfound}{unanswered}", self.cheat)
    }
}

/// All of it.
#[derive(Clone, Debug, Serialize)]
pub struct Guarded {
    /// The course, as it was named.
    pub course: String,
    /// Seeds.
    pub seeds: u32,
    /// How long each run was, in milliseconds.
    pub lasts_ms: f64,
    /// How long each cheat went on, in milliseconds.
    pub cheats_last_ms: f64,
    /// Honest members accused, over all runs.
    pub honest_verdicts: u64,
    /// Of those, how many come from a ground or a rule that was known otherwise to them than to the server.
    pub excused: u64,
    /// Each rule that measures.
    pub rules: Vec<RuleRow>,
    /// For each gait the slack that the honest needed, and one that would do.
    pub proposals: Vec<ProposalRow>,
    /// Each member, attacked.
    pub members: Vec<MemberRow>,
}

/// What slack a gait needs.
#[derive(Clone, Debug, Serialize)]
pub struct ProposalRow {
    /// Its name.
    pub gait: String,
    /// The slack that is allowed, as a share.
    pub slack: f64,
    /// The least that would have accused nobody honest.
    pub needed: f64,
    /// Of how many measures that is said.
    pub claims: u64,
    /// By which rule it was needed …
    pub rule: &'static str,
    /// … by whom.
    pub nearest: Nearest,
    /// One that would do: a hundredth more, in whole hundredths.
    pub proposed: f64,
}

impl ProposalRow {
    fn text(&self) -> String {
        let Nearest { who, at_ms, seed, .. } = &self.nearest;
        let percent = |share: f64| format!("{:.1} %", share * 100.0);
        format!(
            "{}: of {} measures the nearest needed a slack of {} ({who} by {}, {}, seed {seed}); {:.0} % is proposed, {} is allowed",
            self.gait,
            self.claims,
            percent(self.needed),
            self.rule,
            LabTime::from_millis(*at_ms),
            self.proposed * 100.0,
            percent(self.slack)
        )
    }
}

impl RuleRow {
    fn text(&self, out: &mut String) {
        let percent = |share: Option<f64>| share.map_or("-".to_owned(), |share| format!("{:.1} %", share * 100.0));
        for (whose, spread) in
            [("honest", &self.honest), ("rogues", &self.rogues)].into_iter().filter(|(_, s)| s.claims > 0)
        {
            let nearest = spread.nearest.as_ref().map_or(String::new(), |n| {
                let at = LabTime::from_millis(n.at_ms);
                format!("{:.1} % ({} {at}, seed {})", n.share * 100.0, n.who, n.seed)
            });
            let (p50, p99) = (percent(spread.p50), percent(spread.p99));
            let (claims, beyond) = (spread.claims, spread.beyond);
            let _ = writeln!(out, "{:<7} {whose:<7} {claims:>8} {beyond:>7} {p50:>8} {p99:>8}  {nearest}", self.rule);
        }
        if let (Some(least), Some(slack)) = (self.least_slack, self.slack) {
            let _ = writeln!(
                out,
                "        a slack of {:.1} % would have accused nobody honest; {:.1} % is allowed",
                least * 100.0,
                slack * 100.0
            );
        }
    }
}

impl MemberRow {
    /// What mixtures of cheats came to.
    fn mixture_text(&self, out: &mut String) {
        let single = self.cheats.iter().filter_map(|row| row.unfound_gain_m_per_min).fold(0.0, f64::max);
        let best = match &self.mixture {
            Some(m) if m.gain_m_per_min > single => {
                format!("{} gains {:+.1} m a minute unfound", m.words, m.gain_m_per_min)
            }
            _ if single > 0.0 => "none gains more unfound than one cheat by itself".to_owned(),
            _ => "nothing was gained unfound".to_owned(),
        };
        if self.searched > 0 {
            let _ = writeln!(out, "  searched {} mixtures: {best}", self.searched);
        }
    }
}

impl Guarded {
    /// As JSON.
    pub fn json(&self) -> String {
        serde_json::to_string_pretty(self).expect("names and numbers") + "\n"
    }

    /// In words.
    pub fn text(&self) -> String {
        let mut out = String::new();
        let (s, lasts) = (if self.seeds == 1 { "" } else { "s" }, self.lasts_ms / 1e3);
        let _ = writeln!(out, "{}: {} seed{s} of {lasts} s", self.course, self.seeds);
        let excused = match self.excused {
            0 => String::new(),
            n => format!("; {n} of them did what they knew: their ground or rule is another than the server's"),
        };
        let _ = writeln!(out, "honest members accused: {}{excused}\n", self.honest_verdicts);
        let _ = writeln!(
            out,
            "{:<7} {:<7} {:>8} {:>7} {:>8} {:>8}  nearest that was lawful",
            "rule", "", "claims", "beyond", "p50", "p99"
        );
        self.rules.iter().for_each(|row| row.text(&mut out));
        if !self.proposals.is_empty() {
            let _ = writeln!(out, "\nslack");
        }
        for row in &self.proposals {
            let _ = writeln!(out, "  {}", row.text());
        }
        let lasts = self.cheats_last_ms / 1e3;
        let _ = writeln!(
            out,
            "\nattacked: each member plays its script as a rogue for {lasts} s; what it gains is the way beyond its own without"
        );
        for member in &self.members {
            let _ = writeln!(out, "\n{}, {}, {}", member.name, member.gait, member.arrangement);
            for row in &member.cheats {
                let _ = writeln!(out, "  {}", row.text());
            }
            member.mixture_text(&mut out);
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_the_ends_of_their_bins() {
        let mut bins = [0; BINS];
        (bins[0], bins[19], bins[39]) = (50, 49, 1);
        let spread = Spread::of(&bins, 0, None);
        let near = |a: Option<f64>, b: f64| a.is_some_and(|a| (a - b).abs() < 1e-9);
        assert!(near(spread.p50, 0.025) && near(spread.p99, 0.5), "{spread:?}");
        assert_eq!((spread.claims, Spread::of(&[0; BINS], 0, None).p50), (100, None));
    }

    fn cheat(found: (usize, Option<f32>), unfound: Option<(f32, f64)>) -> CheatRow {
        let spec = velocitas_lab::CHEATS.iter().find(|spec| spec.key == "run").expect("there is one");
        CheatRow {
            found_from: found.1,
            found_within_ms: found.1.map(|_| 1250.0),
            greatest_found: found.0,
            seeds: 10,
            unfound: unfound.map(|(size, _)| size),
            unfound_gain_m_per_min: unfound.map(|(_, gain)| gain),
            idle: None,
            unit: " times",
            ..CheatRow::idle(spec, "")
        }
    }

    #[test]
    fn what_came_of_a_cheat_is_said_as_far_as_it_was_tried() {
        let text =
            |row: CheatRow| row.text().split_once("run").map(|(_, rest)| rest.trim().to_owned()).expect("its name");
        assert_eq!(text(cheat((10, Some(1.25)), None)), "found in 10 of 10 seeds from 1.25 times on, within 1.25 s");
        let always = CheatRow { seeds: 59, greatest_found: 59, ..cheat((59, Some(2.0)), None) };
        assert_eq!(text(always), "always found (59 of 59) from 2 times on, within 1.25 s");
        let some = cheat((3, None), Some((1.1, 4.04)));
        let said = "the most that was tried is found in 3 of 10 seeds; 1.1 times unfound gains +4.0 m a minute";
        assert_eq!(text(some), said);
        assert_eq!(text(cheat((0, None), None)), "never found, not even the most that was tried");
        let idle = CheatRow { idle: Some("its rule has no stick"), ..cheat((0, None), None) };
        assert_eq!(text(idle), "does nothing here: its rule has no stick");
        // A cheat without a size has none to tell.
        let plain = CheatRow { unit: "", ..cheat((4, None), None) };
        assert_eq!(text(plain), "found in 4 of 10 seeds");
    }

    #[test]
    fn a_mixture_counts_only_where_it_gains_more_than_one_cheat() {
        let member = |single: f64, mixed: Option<f64>| {
            let mixture =
                mixed.map(|gain_m_per_min| MixtureRow { cheats: Vec::new(), gain_m_per_min, words: "both".into() });
            let cheats = vec![cheat((0, None), Some((1.1, single)))];
            MemberRow {
                name: "jay".into(),
                gait: "courier".into(),
                arrangement: "claims",
                cheats,
                searched: 8,
                mixture,
            }
        };
        let text = |row: MemberRow| {
            let mut out = String::new();
            row.mixture_text(&mut out);
            out
        };
        assert_eq!(text(member(2.0, Some(5.0))), "  searched 8 mixtures: both gains +5.0 m a minute unfound\n");
        let alone = "  searched 8 mixtures: none gains more unfound than one cheat by itself\n";
        assert_eq!(text(member(2.0, Some(2.0))), alone);
        assert_eq!(text(member(0.0, None)), "  searched 8 mixtures: nothing was gained unfound\n");
        assert_eq!(text(MemberRow { searched: 0, ..member(2.0, None) }), "", "nothing was searched");
    }
}
