//! A script by the clock: what hands do for how long, one thing after the other.

use velocitas_core::{Input, InputField, InputKind, Schema, Vec3};

use velocitas_record::controls::{Acts, Controls};
use velocitas_record::time::LabTime;

/// What hands do for a while.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Stroke {
    /// For how long.
    pub lasts: LabTime,
    /// Where the stick is: to the right and ahead of where the eyes point.
    pub stick: (f32, f32),
    /// Where the eyes point from then on, in radians.
    pub facing: Option<f32>,
    /// How far above the level, in radians.
    pub pitch: Option<f32>,
    /// What is held meanwhile and pressed at its beginning.
    pub acts: Acts,
    /// What is given as the rule reads it, by name: over all else.
    pub given: Vec<Given>,
}

/// A value as a rule reads it.
#[derive(Clone, Debug, PartialEq)]
pub struct Given {
    /// The input's name.
    pub name: &'static str,
    /// Its kind: another rule may have something else of that name.
    pub kind: InputKind,
    /// Its lanes.
    pub lanes: Vec<u32>,
}

/// Several of them, to be played once or again and again.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Strokes {
    /// One after the other.
    pub all: Vec<Stroke>,
    /// Whether they begin again at their end; if not the hands rest then.
    pub again: bool,
}

/// Where in its strokes somebody is.
#[derive(Clone, Debug, Default)]
pub(super) struct Playing {
    /// Which is next, and when that begins.
    next: usize,
    begins: LabTime,
    /// Which is being done.
    current: Option<usize>,
    /// When it began.
    since: LabTime,
    facing: f32,
    pitch: f32,
    order: Option<Vec3>,
}

impl Playing {
    /// What hands do so long after their clock began, and when on that clock they began to. What begins at a moment is seen by
    /// frames after it.
    pub(super) fn controls(&mut self, strokes: &Strokes, elapsed: LabTime, schema: &Schema) -> (Controls, LabTime) {
        let mut given = Input::default();
        while self.begins < elapsed && self.begin(strokes) {
            let Some(stroke) = self.current.and_then(|current| strokes.all.get(current)) else { continue };
            stroke.acts.press(&mut given, schema);
            stroke.give(&mut given, schema, true);
        }
        let mut controls =
            Controls { facing: self.facing, pitch: self.pitch, order: self.order, ..Controls::default() };
        if let Some(stroke) = self.current.and_then(|current| strokes.all.get(current)) {
            controls.stick = stroke.stick;
            stroke.acts.hold(&mut given, schema);
            stroke.give(&mut given, schema, false);
        }
        (Controls { given, ..controls }, self.since)
    }

    /// Begins the next one; says whether there was one to begin.
    fn begin(&mut self, strokes: &Strokes) -> bool {
        if self.next == strokes.all.len() && strokes.again {
            self.next = 0;
        }
        if self.next > strokes.all.len() {
            return false;
        }
        // After the last one comes rest.
        self.since = self.begins;
        self.current = (self.next < strokes.all.len()).then_some(self.next);
        if let Some(stroke) = strokes.all.get(self.next) {
            self.begins = self.begins.plus(stroke.lasts);
            self.facing = stroke.facing.unwrap_or(self.facing);
            self.pitch = stroke.pitch.unwrap_or(self.pitch);
            self.order = stroke.acts.order.or(self.order);
        }
        self.next += 1;
        true
    }
}

impl Stroke {
    /// Gives what is given by name: presses, or all else.
    fn give(&self, input: &mut Input, schema: &Schema, presses: bool) {
        for given in &self.given {
            let is_it = |f: &&InputField| f.name == given.name && f.kind.lanes() == given.lanes.len();
            let Some(f) = schema.input.iter().find(is_it) else { continue };
            match f.kind {
                InputKind::Press if presses => input.set_int(f.lane, input.int(f.lane) + given.lanes[0]),
                InputKind::Press => {}
                _ if presses => {}
                _ => given.lanes.iter().enumerate().for_each(|(i, bits)| input.set_int(f.lane + i, *bits)),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::Motion;
    use velocitas_core::walker::{Walker, input_lane};

    fn stroke(ms: f64, stick: (f32, f32), press: &[&str]) -> Stroke {
        let acts = Acts { press: press.iter().map(|name| (*name).to_owned()).collect(), ..Acts::default() };
        Stroke { lasts: LabTime::from_millis(ms), stick, acts, ..Stroke::default() }
    }

    fn hops(controls: &Controls) -> u32 {
        controls.given.int(input_lane::HOP)
    }

    #[test]
    fn strokes_follow_each_other_and_each_press_is_seen_once_however_long_a_frame_takes() {
        let schema = Walker::new().schema().clone();
        let mut all = vec![stroke(100.0, (0.0, 1.0), &["hop"]), stroke(50.0, (1.0, 0.0), &["hop"])];
        all[1].acts.hold = vec!["sprint".to_owned()];
        let once = Strokes { all, again: false };
        let mut playing = Playing::default();
        let mut at = |ms: f64| playing.controls(&once, LabTime::from_millis(ms), &schema);
        assert_eq!(hops(&at(0.0).0), 0, "what begins at a moment is seen by frames after it");
        let (first, since) = at(16.0);
        assert_eq!((first.stick, hops(&first), since), ((0.0, 1.0), 1, LabTime::ZERO));
        assert_eq!(hops(&at(32.0).0), 0);
        let (second, since) = at(110.0);
        assert_eq!((second.stick, hops(&second), since), ((1.0, 0.0), 1, LabTime::from_millis(100.0)));
        assert!(second.given.flag(input_lane::SPRINT));
        let (rest, since) = at(170.0);
        assert_eq!((rest, since), (Controls::default(), LabTime::from_millis(150.0)));
        assert_eq!(at(900.0).0, Controls::default());
        // A frame that takes long sees all presses of what passed meanwhile.
        let again = Strokes { again: true, ..once };
        let mut playing = Playing::default();
        assert_eq!(hops(&playing.controls(&again, LabTime::from_millis(301.0), &schema).0), 5);
        assert_eq!(playing.controls(&again, LabTime::from_millis(410.0), &schema).0.stick, (1.0, 0.0));
    }

    #[test]
    fn eyes_and_orders_stay_where_they_were_last() {
        let schema = Walker::new().schema().clone();
        let mut all = vec![stroke(100.0, (0.0, 0.0), &[]), stroke(100.0, (0.0, 0.0), &[])];
        all[0].facing = Some(1.5);
        all[0].acts.order = Some(velocitas_core::vec3(3.0, 4.0, 0.0));
        let mut playing = Playing::default();
        let strokes = Strokes { all, again: false };
        let (later, _) = playing.controls(&strokes, LabTime::from_millis(250.0), &schema);
        assert_eq!((later.facing, later.order), (1.5, strokes.all[0].acts.order));
    }

    #[test]
    fn what_is_given_as_the_rule_reads_it_is_read_so() {
        let schema = Walker::new().schema().clone();
        let given = |name, lanes: &[u32]| {
            let kind = schema.input.iter().find(|f| f.name == name).map(|f| f.kind).expect("an input of it");
            Given { name, kind, lanes: lanes.to_vec() }
        };
        let half = 0.5f32.to_bits();
        let stroke = Stroke {
            lasts: LabTime::from_millis(50.0),
            given: vec![given("move", &[half, 0]), given("hop", &[2]), given("sprint", &[1])],
            ..Stroke::default()
        };
        let strokes = Strokes { all: vec![stroke], again: false };
        let mut playing = Playing::default();
        let mut at =
            |ms: f64| playing.controls(&strokes, LabTime::from_millis(ms), &schema).0.to_input(&schema, &schema);
        let first = at(10.0);
        assert_eq!((first.real(input_lane::MOVE), first.int(input_lane::HOP)), (0.5, 2));
        let second = at(20.0);
        assert_eq!((second.real(input_lane::MOVE), second.int(input_lane::HOP)), (0.5, 0));
        assert!(second.flag(input_lane::SPRINT));
    }
}
