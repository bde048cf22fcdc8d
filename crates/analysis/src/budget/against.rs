//! What became worse since a report that was kept.

use std::collections::BTreeMap;

use velocitas_record::time::LabTime;

use super::Measure;

/// A value that a report knows.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// The course's file, as it was named.
    pub course: String,
    /// The seed of the run.
    pub seed: u64,
    /// How long it lasted: runs of other lengths are not compared.
    pub lasts: LabTime,
    /// A member of the cast.
    pub member: String,
    /// Of what.
    pub measure: &'static Measure,
    /// How much, in the unit kept.
    pub value: f64,
}

/// A measure of a member in two reports: means over the seeds that both have.
#[derive(Clone, Debug, PartialEq)]
pub struct Compared {
    /// The course's file.
    pub course: String,
    /// A member of the cast.
    pub member: String,
    /// Of what.
    pub measure: &'static Measure,
    /// What it was.
    pub was: f64,
    /// What it is.
    pub is: f64,
    /// Over how many seeds.
    pub seeds: u32,
    /// The seed with which it became worst, by the greatest difference; of equal ones the first.
    pub seed: u64,
}

impl Compared {
    /// Whether it became worse by more than a share of what it was, and by more than the grain of its measure.
    pub fn is_worse(&self, share: f64) -> bool {
        let by = self.measure.bound.worse_by(self.is, self.was);
        by > self.measure.grain + 1e-12 && by > self.was.abs() * share
    }
}

/// What two reports both know, in the order of the first.
pub fn against(now: &[Known], kept: &[Known]) -> Vec<Compared> {
    type Key<'a> = (&'a str, &'a str, &'a str);
    fn key(known: &Known) -> Key<'_> {
        (&known.course, &known.member, known.measure.key)
    }
    let run = |known: &Known| (known.seed, known.lasts);
    let then: BTreeMap<(Key<'_>, (u64, LabTime)), f64> =
        kept.iter().map(|known| ((key(known), run(known)), known.value)).collect();
    let mut places: BTreeMap<Key<'_>, usize> = BTreeMap::new();
    let mut all: Vec<(Compared, f64)> = Vec::new();
    for known in now {
        let Some(was) = then.get(&(key(known), run(known))) else { continue };
        let place = *places.entry(key(known)).or_insert_with(|| {
            all.push((
                Compared {
                    course: known.course.clone(),
                    member: known.member.clone(),
                    measure: known.measure,
                    was: 0.0,
                    is: 0.0,
                    seeds: 0,
                    seed: known.seed,
                },
                f64::NEG_INFINITY,
            ));
            all.len() - 1
        });
        let (compared, worst) = &mut all[place];
        compared.was += was;
        compared.is += known.value;
        compared.seeds += 1;
        let by = known.measure.bound.worse_by(known.value, *was);
        if by > *worst {
            (*worst, compared.seed) = (by, known.seed);
        }
    }
    let mean = |(compared, _): (Compared, f64)| {
        let seeds = f64::from(compared.seeds);
        Compared { was: compared.was / seeds, is: compared.is / seeds, ..compared }
    };
    all.into_iter().map(mean).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(seed: u64, member: &str, key: &str, value: f64) -> Known {
        let measure = Measure::named(key).expect("a row");
        Known {
            course: "quay".to_owned(),
            seed,
            lasts: LabTime::from_secs(30.0),
            member: member.to_owned(),
            measure,
            value,
        }
    }

    #[test]
    fn means_over_the_seeds_of_both_are_compared() {
        let kept = [
            known(1, "plover", "response", 40.0),
            known(2, "plover", "response", 60.0),
            known(9, "plover", "response", 900.0),
            known(1, "heron", "late", 0.1),
        ];
        let now = [
            known(1, "plover", "response", 46.0),
            known(2, "plover", "response", 66.0),
            known(3, "plover", "response", 1.0),
            known(1, "plover", "late", 0.5),
        ];
        let [only] = &against(&now, &kept)[..] else { panic!("one is known to both") };
        assert_eq!((only.was, only.is, only.seeds, only.seed), (50.0, 56.0, 2, 1));
        assert!(only.is_worse(0.10) && !only.is_worse(0.15));
    }

    #[test]
    fn worse_is_more_or_less_by_the_side_of_the_bound_and_never_within_the_grain() {
        let worse = |key: &str, was: f64, is: f64| {
            against(&[known(1, "plover", key, is)], &[known(1, "plover", key, was)])[0].is_worse(0.1)
        };
        assert!(worse("tricks_answered", 1.0, 0.8) && !worse("tricks_answered", 0.8, 1.0));
        assert!(!worse("largest_jump", 0.001, 0.010), "nine millimetres are none");
        assert!(worse("largest_jump", 0.001, 0.012));
        assert!(worse("verdicts", 0.0, 1.0) && !worse("verdicts", 0.0, 0.0));
    }
}
