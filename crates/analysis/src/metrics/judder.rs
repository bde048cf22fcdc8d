//! How unevenly something is drawn to move, and a camera that is moved by ticks.

/// How unevenly something is drawn to move, whatever it really did: at a constant speed the variation of how far it is drawn to go from frame to
/// frame. What moves evenly, and what gains or loses speed evenly, has none.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Judder {
    /// Velocities of the last two frames.
    before: [Option<[f64; 3]>; 2],
    squares: f64,
    count: u32,
}

impl Judder {
    /// It was drawn to move with a velocity from the frame before to this one.
    pub(super) fn moved(&mut self, velocity: [f64; 3]) {
        if let [Some(first), Some(middle)] = self.before {
            let off: [f64; 3] = std::array::from_fn(|lane| middle[lane] - (first[lane] + velocity[lane]) / 2.0);
            self.squares += off[0] * off[0] + off[1] * off[1] + off[2] * off[2];
            self.count += 1;
        }
        self.before = [self.before[1], Some(velocity)];
    }

    /// It was put elsewhere, or was not drawn.
    pub(super) const fn is_cut(&mut self) {
        self.before = [None; 2];
    }

    pub(super) fn rms(&self) -> Option<f64> {
        (self.count > 0).then(|| libm::sqrt(self.squares / f64::from(self.count)))
    }
}

/// A camera that is moved only in frames in which a tick was made.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Camera {
    at: [f64; 3],
    judder: Judder,
}

impl Camera {
    /// The own character is drawn somewhere, some seconds after the frame before.
    pub(super) fn frame(&mut self, is_of_a_tick: bool, drawn: [f64; 3], seconds: f64) {
        let to = if is_of_a_tick { drawn } else { self.at };
        self.judder.moved(std::array::from_fn(|lane| (to[lane] - self.at[lane]) / seconds));
        self.at = to;
    }

    /// The own character was put somewhere, or is seen again: the camera is there.
    pub(super) const fn is_cut(&mut self, drawn: [f64; 3]) {
        self.at = drawn;
        self.judder.is_cut();
    }

    pub(super) fn rms(&self) -> Option<f64> {
        self.judder.rms()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_moves_evenly_or_gains_speed_evenly_has_none_and_a_camera_on_ticks_steps() {
        let mut even = Judder::default();
        (0..20).for_each(|frame| even.moved([2.0 + 0.1 * f64::from(frame), 0.0, 0.0]));
        assert!(even.rms().is_some_and(|rms| rms < 1e-12), "{even:?}");
        // Two frames a tick: the camera goes twice as far in every other frame.
        let mut camera = Camera::default();
        camera.is_cut([0.0; 3]);
        (1..40).for_each(|frame| camera.frame(frame % 2 == 0, [f64::from(frame) * 0.1, 0.0, 0.0], 0.1));
        assert!(camera.rms().is_some_and(|rms| (rms - 2.0).abs() < 0.1), "{camera:?}");
    }
}
