//! Driving from the keyboard: whatever the rule at the helm reads, with the keys that `velocitas_gait::keys` gives its inputs.
//!
//! A terminal that reports when keys are let go gives press-and-hold. In others a key latches: a direction *sets* the course and
//! the same key, its opposite or `x` ends it; a held input is switched.

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use velocitas_core::{Input, InputField, InputKind, Motion, Vec3, vec3};
use velocitas_gait::keys::{Key, keys};
use velocitas_record::Controls;

/// How fast held keys turn the view, in radians a second.
const TURN_RATE: f32 = 2.6;
/// How far one press turns it where holding cannot be seen.
const TURN_STEP: f32 = std::f32::consts::PI / 12.0;
/// As far up and down as eyes look.
const STEEPEST: f32 = std::f32::consts::FRAC_PI_2;
/// How far ahead an order goes if the cursor was not moved, in metres.
const SENT: f32 = 8.0;
/// How far one key press moves the cursor, in metres.
const CURSOR_STEP: f32 = 1.0;

/// An input of the rule at the helm, with what the keyboard does to it.
#[derive(Clone, Debug)]
pub struct Hand {
    /// The input.
    pub field: InputField,
    /// Its keys, one for each of its parts; none where there were none left.
    pub keys: Vec<Key>,
    /// Which of them are down, or latched.
    down: [bool; 4],
    /// Presses not told yet.
    pressed: u32,
    /// Presses in all.
    presses: u32,
}

/// The hands on the keyboard.
#[derive(Clone, Debug)]
pub struct Driving {
    /// Whether keys drive now.
    pub on: bool,
    /// Whether the terminal says when keys are let go.
    pub releases: bool,
    hands: Vec<Hand>,
    /// The key that gives orders, if anything takes them.
    order_key: Option<Key>,
    facing: f32,
    pitch: f32,
    /// Where the next order goes, once that was said.
    cursor: Option<(f32, f32)>,
    /// Where what takes orders was sent last.
    order: Option<Vec3>,
    /// Whether an order is to be given.
    calls: bool,
    /// How far the cursor is to be moved.
    moves: (f32, f32),
    /// What was told last.
    told: Controls,
}

impl Default for Driving {
    fn default() -> Self {
        Self {
            on: false,
            releases: false,
            hands: Vec::new(),
            order_key: None,
            // North, so that ahead is up on the map.
            facing: std::f32::consts::FRAC_PI_2,
            pitch: 0.0,
            cursor: None,
            order: None,
            calls: false,
            moves: (0.0, 0.0),
            told: Controls::default(),
        }
    }
}

const fn is_point(f: &InputField) -> bool {
    matches!(f.kind, InputKind::Point { .. })
}

/// The part of a pair of keys that undoes another.
const fn opposite(kind: InputKind, part: usize) -> Option<usize> {
    match kind {
        InputKind::Stick { .. } => Some((part + 2) % 4),
        InputKind::Axis { .. } | InputKind::Bearing { .. } | InputKind::Pitch { .. } => Some(1 - part),
        _ => None,
    }
}

impl Hand {
    /// Whether a part is down or latched, for what shows it.
    pub fn is_down(&self, part: usize) -> bool {
        self.down.get(part).is_some_and(|down| *down)
    }

    /// How often it was pressed since the helm was taken.
    pub const fn presses(&self) -> u32 {
        self.presses
    }

    /// From one part to its opposite: 1, 0 or -1.
    fn between(&self, plus: usize, minus: usize) -> f32 {
        f32::from(i8::from(self.is_down(plus)) - i8::from(self.is_down(minus)))
    }

    /// To the right and ahead.
    fn stick(&self) -> (f32, f32) {
        (self.between(3, 1), self.between(0, 2))
    }
}

impl Driving {
    /// Begins at rest, looking north, with the inputs of a rule. `orders` says whether anything in the world takes orders.
    pub fn begin(&mut self, rule: &dyn Motion, orders: bool) {
        *self = Self { on: true, releases: self.releases, ..Self::default() };
        self.take(rule, orders);
    }

    /// Goes on with the inputs of a rule: those it had before stay as they are.
    pub fn take(&mut self, rule: &dyn Motion, orders: bool) {
        let fields = &rule.schema().input;
        let same = |hand: &Hand, f: &InputField| {
            hand.field.name == f.name && hand.field.kind == f.kind && hand.field.lane == f.lane
        };
        if fields.len() == self.hands.len() && fields.iter().zip(&self.hands).all(|(f, hand)| same(hand, f)) {
            return;
        }
        let before = std::mem::take(&mut self.hands);
        let fresh = |(field, keys): (&InputField, Vec<Key>)| {
            let (down, pressed, presses) = before
                .iter()
                .find(|hand| hand.field.name == field.name && hand.field.kind == field.kind)
                .map_or(([false; 4], 0, 0), |hand| (hand.down, hand.pressed, hand.presses));
            Hand { field: field.clone(), keys, down, pressed, presses }
        };
        self.hands = fields.iter().zip(keys(rule)).map(fresh).collect();
        let own = self.hands.iter().find(|hand| is_point(&hand.field));
        let usual = Key::Letter('o');
        let is_free = !self.hands.iter().any(|hand| hand.keys.contains(&usual));
        self.order_key = own.map_or((orders && is_free).then_some(usual), |own| own.keys.first().copied());
    }

    /// Lets everything go.
    pub fn rest(&mut self) {
        for hand in &mut self.hands {
            hand.down = [false; 4];
        }
    }

    /// The inputs of the rule driven.
    pub fn hands(&self) -> &[Hand] {
        &self.hands
    }

    /// The key that gives orders.
    pub const fn order_key(&self) -> Option<Key> {
        self.order_key
    }

    /// What was told last, without presses.
    pub const fn told(&self) -> &Controls {
        &self.told
    }

    /// Where the eyes point, in radians.
    pub const fn facing(&self) -> f32 {
        self.facing
    }

    /// How far above the level they point, in radians.
    pub const fn pitch(&self) -> f32 {
        self.pitch
    }

    /// Where what takes orders was sent last.
    pub fn ordered(&self) -> Option<(f32, f32)> {
        self.order.map(|order| (order.x, order.y))
    }

    /// Where the next order goes, if the cursor was moved.
    pub const fn cursor(&self) -> Option<(f32, f32)> {
        self.cursor
    }

    /// Whether the arrows move the cursor without shift: where nothing else has them.
    pub fn arrows_are_free(&self) -> bool {
        !self.hands.iter().flat_map(|hand| &hand.keys).any(|key| !matches!(key, Key::Letter(_) | Key::Space))
    }

    /// Takes a key of the mode. Says whether it was one.
    pub fn key(&mut self, key: &KeyEvent) -> bool {
        let Some(meant) = meant(key) else { return false };
        let down = key.kind != KeyEventKind::Release;
        if let Some((x, y)) = self.cursor_way(meant, key.modifiers) {
            if down {
                self.moves = (self.moves.0 + x, self.moves.1 + y);
            }
            return true;
        }
        if !key.modifiers.difference(KeyModifiers::SHIFT).is_empty() {
            return false;
        }
        let repeats = key.kind == KeyEventKind::Repeat && self.releases;
        if meant == Key::Letter('x') {
            if down {
                self.rest();
            }
            return true;
        }
        if self.order_key == Some(meant) {
            self.calls |= down && !repeats;
            return true;
        }
        let releases = self.releases;
        let found = self.hands.iter_mut().find_map(|hand| {
            let part = hand.keys.iter().position(|key| *key == meant)?;
            Some((hand, part))
        });
        let Some((hand, part)) = found else { return false };
        if repeats {
            return true;
        }
        match hand.field.kind {
            InputKind::Press if down => (hand.pressed, hand.presses) = (hand.pressed + 1, hand.presses + 1),
            InputKind::Press => {}
            _ if releases => hand.down[part] = down,
            InputKind::Bearing { .. } if down => self.facing += if part == 0 { TURN_STEP } else { -TURN_STEP },
            InputKind::Pitch { .. } if down => self.pitch += if part == 0 { TURN_STEP } else { -TURN_STEP },
            kind if down => {
                hand.down[part] = !hand.down[part];
                if let Some(opposite) = opposite(kind, part) {
                    hand.down[opposite] = false;
                }
            }
            _ => {}
        }
        self.look(0.0, 0.0);
        true
    }

    /// Which way a key moves the cursor, if it does, in metres east and north.
    fn cursor_way(&self, key: Key, modifiers: KeyModifiers) -> Option<(f32, f32)> {
        let shifted = modifiers == KeyModifiers::SHIFT;
        if self.order_key.is_none() || !(shifted || modifiers.is_empty() && self.arrows_are_free()) {
            return None;
        }
        match key {
            Key::Left => Some((-CURSOR_STEP, 0.0)),
            Key::Right => Some((CURSOR_STEP, 0.0)),
            Key::Up => Some((0.0, CURSOR_STEP)),
            Key::Down => Some((0.0, -CURSOR_STEP)),
            _ => None,
        }
    }

    /// Turns the eyes.
    fn look(&mut self, left: f32, up: f32) {
        self.facing = velocitas_core::wrap_angle(self.facing + left);
        self.pitch = (self.pitch + up).clamp(-STEEPEST, STEEPEST);
    }

    /// Sends what takes orders to a place, at once.
    pub const fn point_at(&mut self, place: (f32, f32)) {
        self.cursor = Some(place);
        self.calls = true;
    }

    /// Gives the order that was asked for, and moves the cursor, given where the body stands.
    pub fn send(&mut self, body: Option<(f32, f32)>) {
        let (x, y) = std::mem::take(&mut self.moves);
        if (x, y) != (0.0, 0.0)
            && let Some(from) = self.cursor.or(body)
        {
            self.cursor = Some((from.0 + x, from.1 + y));
        }
        if std::mem::take(&mut self.calls) {
            let ahead = |(x, y): (f32, f32)| (x + libm::cosf(self.facing) * SENT, y + libm::sinf(self.facing) * SENT);
            if let Some((x, y)) = self.cursor.or(body.map(ahead)) {
                self.order = Some(vec3(x, y, 0.0));
            }
        }
    }

    /// What the hands do now, if it is news; `seconds` is the time since the last question.
    pub fn news(&mut self, seconds: f32) -> Option<Controls> {
        if self.releases {
            let turned = |kind: fn(&InputKind) -> bool| {
                self.hands.iter().filter(|hand| kind(&hand.field.kind)).map(|hand| hand.between(0, 1)).sum::<f32>()
            };
            let (left, up) = (
                turned(|kind| matches!(kind, InputKind::Bearing { .. })),
                turned(|kind| matches!(kind, InputKind::Pitch { .. })),
            );
            self.look(left * TURN_RATE * seconds, up * TURN_RATE * seconds);
        }
        let controls = self.controls();
        self.hands.iter_mut().for_each(|hand| hand.pressed = 0);
        let told = Controls { given: self.without_presses(controls.given), ..controls };
        if controls == self.told {
            return None;
        }
        self.told = told;
        Some(controls)
    }

    fn controls(&self) -> Controls {
        let mut controls =
            Controls { facing: self.facing, pitch: self.pitch, order: self.order, ..Controls::default() };
        let is_stick = |hand: &&Hand| matches!(hand.field.kind, InputKind::Stick { .. });
        let first = self.hands.iter().find(is_stick);
        controls.stick = first.map_or((0.0, 0.0), Hand::stick);
        for hand in &self.hands {
            let lane = hand.field.lane;
            match hand.field.kind {
                InputKind::Held => controls.given.set_flag(lane, hand.is_down(0)),
                InputKind::Press => controls.given.set_int(lane, hand.pressed),
                InputKind::Axis { .. } => controls.given.set_real(lane, hand.between(0, 1)),
                InputKind::Stick { .. } if first.is_some_and(|first| first.field.lane != lane) => {
                    let (right, ahead) = hand.stick();
                    controls.given.set_real(lane, right);
                    controls.given.set_real(lane + 1, ahead);
                }
                _ => {}
            }
        }
        controls
    }

    fn without_presses(&self, mut given: Input) -> Input {
        for hand in self.hands.iter().filter(|hand| hand.field.kind == InputKind::Press) {
            given.set_int(hand.field.lane, 0);
        }
        given
    }
}

/// The key of an event, whatever its modifiers.
fn meant(key: &KeyEvent) -> Option<Key> {
    match key.code {
        KeyCode::Char(' ') => Some(Key::Space),
        KeyCode::Char(c) if c.is_ascii_alphabetic() => Some(Key::Letter(c.to_ascii_lowercase())),
        KeyCode::Left => Some(Key::Left),
        KeyCode::Right => Some(Key::Right),
        KeyCode::Up => Some(Key::Up),
        KeyCode::Down => Some(Key::Down),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane};

    fn code(name: &str) -> KeyCode {
        match name {
            "space" => KeyCode::Char(' '),
            "left" => KeyCode::Left,
            "up" => KeyCode::Up,
            name => KeyCode::Char(name.chars().next().expect("a letter")),
        }
    }

    fn key(name: &str, kind: KeyEventKind) -> KeyEvent {
        KeyEvent::new_with_kind(code(name), KeyModifiers::NONE, kind)
    }

    fn driving(rule: &dyn Motion, releases: bool) -> Driving {
        let mut driving = Driving { releases, ..Driving::default() };
        driving.begin(rule, false);
        driving.news(0.0);
        driving
    }

    fn press(driving: &mut Driving, name: &str) -> bool {
        driving.key(&key(name, KeyEventKind::Press))
    }

    /// A rule of six inputs, one of each kind that feet have not.
    fn glider() -> velocitas_gait::Gait {
        let text = "gait \"glider\"\ninput {\n  throttle axis\n  rudder axis\n  flaps axis\n  look pitch\n  dash press key \"g\"\n  \
                    goal point\n}\nstate {\n  pos point m wire 1/256\n  vel vector m/s wire 1/128\n}\n\
                    body { radius 0.3 m height 1 m step 0.1 m }\nstep { slide pos, vel }\n\
                    limits {\n pace vel.xy at most 1 m/s\n climb vel.z at most 1 m/s\n drop vel.z at most 1 m/s\n}\n";
        velocitas_gait::compile(text).gait.expect("sound")
    }

    #[test]
    fn with_releases_a_key_counts_while_it_is_held() {
        let mut d = driving(&Walker::new(), true);
        press(&mut d, "w");
        press(&mut d, "d");
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((1.0, 1.0)));
        d.key(&key("w", KeyEventKind::Repeat));
        assert_eq!(d.news(0.0), None);
        d.key(&key("w", KeyEventKind::Release));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((1.0, 0.0)));
        d.key(&key("d", KeyEventKind::Release));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
        press(&mut d, "e");
        assert_eq!(d.news(0.0).map(|c| c.given.flag(input_lane::SPRINT)), Some(true));
        d.key(&key("e", KeyEventKind::Release));
        assert_eq!(d.news(0.0).map(|c| c.given.flag(input_lane::SPRINT)), Some(false));
        press(&mut d, "left");
        assert!(d.news(0.5).is_some_and(|c| c.facing > 2.0), "it turns while it is held");
    }

    #[test]
    fn without_releases_a_key_latches_and_the_same_key_its_opposite_or_x_ends_it() {
        let mut d = driving(&Walker::new(), false);
        press(&mut d, "w");
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 1.0)));
        press(&mut d, "s");
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, -1.0)));
        press(&mut d, "s");
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
        press(&mut d, "a");
        press(&mut d, "w");
        press(&mut d, "e");
        assert_eq!(d.news(0.0).map(|c| (c.stick, c.given.flag(input_lane::SPRINT))), Some(((-1.0, 1.0), true)));
        press(&mut d, "x");
        assert_eq!(d.news(0.0).map(|c| (c.stick, c.given.flag(input_lane::SPRINT))), Some(((0.0, 0.0), false)));
        press(&mut d, "left");
        assert!(d.news(0.0).is_some_and(|c| c.facing > 1.6), "one press turns it");
    }

    #[test]
    fn a_press_is_told_once_and_counted() {
        let mut d = driving(&Walker::new(), false);
        press(&mut d, "space");
        press(&mut d, "space");
        assert_eq!(d.news(0.0).map(|c| c.given.int(input_lane::HOP)), Some(2));
        assert_eq!(d.news(0.0), None);
        assert_eq!(d.hands().iter().map(Hand::presses).sum::<u32>(), 2);
    }

    #[test]
    fn every_input_of_any_rule_can_be_given() {
        let glider = glider();
        let schema = glider.schema().clone();
        let lane = |name: &str| schema.input.iter().find(|f| f.name == name).map(|f| f.lane).expect("an input of it");
        let mut d = driving(&glider, true);
        for name in ["w", "a", "r", "g", "up"] {
            assert!(press(&mut d, name), "{name}");
        }
        let input = d.news(0.5).expect("news").to_input(&schema, &schema);
        assert_eq!([lane("throttle"), lane("rudder"), lane("flaps")].map(|lane| input.real(lane)), [1.0, -1.0, 1.0]);
        assert_eq!((input.int(lane("dash")), input.real(lane("look"))), (1, 1.3));
        // The order goes ahead of the body, or where the cursor is.
        press(&mut d, "o");
        d.send(Some((1.0, 2.0)));
        let ahead = d.news(0.0).expect("news").order.expect("an order");
        assert!((ahead.x - 1.0).abs() < 1e-5 && (ahead.y - 10.0).abs() < 1e-5, "north of it: {ahead:?}");
        d.key(&KeyEvent::new(KeyCode::Right, KeyModifiers::SHIFT));
        press(&mut d, "o");
        d.send(Some((1.0, 2.0)));
        assert_eq!(d.news(0.0).and_then(|c| c.order), Some(vec3(2.0, 2.0, 0.0)));
        assert!(!press(&mut d, "space") && !press(&mut d, "n"), "what the rule has no use for is not taken");
        assert!(!d.key(&KeyEvent::new(KeyCode::Char('w'), KeyModifiers::CONTROL)));
    }

    #[test]
    fn another_rule_takes_over_what_it_has_in_common() {
        let mut d = driving(&glider(), true);
        press(&mut d, "g");
        press(&mut d, "w");
        assert_eq!(d.news(0.0).map(|c| c.given.real(0)), Some(1.0), "throttle");
        d.take(&Walker::new(), false);
        assert_eq!(d.hands().len(), 4);
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
        d.take(&Walker::new(), false);
        assert_eq!(d.news(0.0), None);
    }
}
