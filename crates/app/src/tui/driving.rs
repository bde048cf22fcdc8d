//! Driving from the keyboard.
//!
//! A terminal that reports when keys are let go gives press-and-hold. In others a direction key *sets* the course, and
//! the same key or `x` stops it. Arrows turn the view, space hops, `e` toggles sprint, `o` sends what takes orders ahead.

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind};
use velocitas_lab::Controls;

/// How fast held arrows turn the view, in radians a second.
const TURN_RATE: f32 = 2.6;
/// How far one press turns it where holding cannot be seen.
const TURN_STEP: f32 = std::f32::consts::PI / 12.0;

/// What takes orders is sent so far ahead, in metres.
const SENT: f32 = 8.0;

/// The hands on the keyboard.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Driving {
    /// Whether keys drive now.
    pub on: bool,
    /// Whether the terminal says when keys are let go.
    pub releases: bool,
    ahead: bool,
    back: bool,
    left: bool,
    right: bool,
    turn_left: bool,
    turn_right: bool,
    sprint: bool,
    facing: f32,
    hops: u32,
    /// Where what takes orders was sent last.
    order: Option<(f32, f32)>,
    /// Whether it is to be sent ahead of where the body stands.
    calls: bool,
    /// What was told last.
    told: Controls,
}

impl Default for Driving {
    fn default() -> Self {
        Self {
            on: false,
            releases: false,
            ahead: false,
            back: false,
            left: false,
            right: false,
            turn_left: false,
            turn_right: false,
            sprint: false,
            // North, so that W is up on the map.
            facing: std::f32::consts::FRAC_PI_2,
            hops: 0,
            order: None,
            calls: false,
            told: Controls::default(),
        }
    }
}

impl Driving {
    /// Begins at rest, looking north.
    pub fn begin(&mut self) {
        *self = Self { on: true, releases: self.releases, ..Self::default() };
    }

    /// Lets everything go.
    pub fn rest(&mut self) {
        *self = Self {
            on: self.on,
            releases: self.releases,
            facing: self.facing,
            sprint: self.sprint,
            order: self.order,
            told: self.told,
            ..Self::default()
        };
    }

    /// Takes a key of the mode. Says whether it was one.
    pub fn key(&mut self, key: &KeyEvent) -> bool {
        let down = key.kind != KeyEventKind::Release;
        let code = match key.code {
            KeyCode::Char(c) => KeyCode::Char(c.to_ascii_lowercase()),
            other => other,
        };
        if key.kind == KeyEventKind::Repeat && self.releases {
            return is_driving(code);
        }
        match code {
            KeyCode::Char('w') => self.direction(down, |d| (&mut d.ahead, &mut d.back)),
            KeyCode::Char('s') => self.direction(down, |d| (&mut d.back, &mut d.ahead)),
            KeyCode::Char('a') => self.direction(down, |d| (&mut d.left, &mut d.right)),
            KeyCode::Char('d') => self.direction(down, |d| (&mut d.right, &mut d.left)),
            KeyCode::Left if self.releases => self.turn_left = down,
            KeyCode::Right if self.releases => self.turn_right = down,
            KeyCode::Left if down => self.facing += TURN_STEP,
            KeyCode::Right if down => self.facing -= TURN_STEP,
            KeyCode::Char(' ') if down => self.hops += 1,
            KeyCode::Char('o') if down => self.calls = true,
            KeyCode::Char('e') if down => self.sprint = !self.sprint,
            KeyCode::Char('x') if down => self.rest(),
            code => return is_driving(code),
        }
        self.facing = velocitas_core::wrap_angle(self.facing);
        true
    }

    /// A direction key and its opposite: held where holding is seen, switched where it is not.
    fn direction(&mut self, down: bool, keys: fn(&mut Self) -> (&mut bool, &mut bool)) {
        let releases = self.releases;
        let (this, opposite) = keys(self);
        if releases {
            *this = down;
        } else if down {
            *this = !*this;
            *opposite = false;
        }
    }

    /// Sends what takes orders ahead of where the body stands, if that was asked for.
    pub fn send(&mut self, body: Option<(f32, f32)>) {
        if std::mem::take(&mut self.calls)
            && let Some((x, y)) = body
        {
            let (sin, cos) = (libm::sinf(self.facing), libm::cosf(self.facing));
            self.order = Some((x + cos * SENT, y + sin * SENT));
        }
    }

    /// What the hands do now, if it is news; `seconds` is the time since the last question.
    pub fn news(&mut self, seconds: f32) -> Option<Controls> {
        let turn = f32::from(i8::from(self.turn_left) - i8::from(self.turn_right));
        self.facing = velocitas_core::wrap_angle(self.facing + turn * TURN_RATE * seconds);
        let axis = |plus: bool, minus: bool| f32::from(i8::from(plus) - i8::from(minus));
        let controls = Controls {
            stick: (axis(self.right, self.left), axis(self.ahead, self.back)),
            facing: self.facing,
            sprint: self.sprint,
            hops: std::mem::take(&mut self.hops),
            order: self.order,
        };
        if controls == self.told {
            return None;
        }
        self.told = Controls { hops: 0, ..controls };
        Some(controls)
    }

    /// The keys of the mode, for its line.
    pub fn hint(&self) -> &'static str {
        if self.releases { "hold W A S D to move" } else { "W A S D set the course, again or x stops" }
    }

    /// Whether the fast key is on.
    pub const fn sprints(&self) -> bool {
        self.sprint
    }
}

fn is_driving(code: KeyCode) -> bool {
    matches!(code, KeyCode::Char('w' | 'a' | 's' | 'd' | 'e' | 'o' | 'x' | ' ') | KeyCode::Left | KeyCode::Right)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crossterm::event::KeyModifiers;

    fn key(c: char, kind: KeyEventKind) -> KeyEvent {
        KeyEvent::new_with_kind(KeyCode::Char(c), KeyModifiers::NONE, kind)
    }

    fn driving(releases: bool) -> Driving {
        let mut driving = Driving { releases, ..Driving::default() };
        driving.begin();
        driving.news(0.0);
        driving
    }

    #[test]
    fn with_releases_a_key_counts_while_it_is_held() {
        let mut d = driving(true);
        d.key(&key('w', KeyEventKind::Press));
        d.key(&key('d', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((1.0, 1.0)));
        d.key(&key('w', KeyEventKind::Repeat));
        assert_eq!(d.news(0.0), None);
        d.key(&key('w', KeyEventKind::Release));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((1.0, 0.0)));
        d.key(&key('d', KeyEventKind::Release));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
    }

    #[test]
    fn without_releases_a_key_sets_the_course_and_the_same_key_or_x_stops_it() {
        let mut d = driving(false);
        d.key(&key('w', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 1.0)));
        d.key(&key('s', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, -1.0)));
        d.key(&key('s', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
        d.key(&key('a', KeyEventKind::Press));
        d.key(&key('w', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((-1.0, 1.0)));
        d.key(&key('x', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.stick), Some((0.0, 0.0)));
    }

    #[test]
    fn a_hop_is_told_once_and_an_arrow_turns() {
        let mut d = driving(false);
        d.key(&key(' ', KeyEventKind::Press));
        assert_eq!(d.news(0.0).map(|c| c.hops), Some(1));
        assert_eq!(d.news(0.0), None);
        d.key(&KeyEvent::new(KeyCode::Left, KeyModifiers::NONE));
        assert!(d.news(0.0).is_some_and(|c| c.facing > 1.6));
    }
}
