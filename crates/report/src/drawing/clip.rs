//! What lies within the unit square.

/// A place, from 0 to 1 where it is within.
pub(super) type Point = (f64, f64);

/// The part of a line that is within (Liang and Barsky, 1984).
pub fn cut(a: Point, b: Point) -> Option<(Point, Point)> {
    let (dx, dy) = (b.0 - a.0, b.1 - a.1);
    let (mut from, mut to) = (0.0f64, 1.0f64);
    for (way, room) in [(-dx, a.0), (dx, 1.0 - a.0), (-dy, a.1), (dy, 1.0 - a.1)] {
        if way == 0.0 {
            if room < 0.0 {
                return None;
            }
        } else if way < 0.0 {
            from = from.max(room / way);
        } else {
            to = to.min(room / way);
        }
    }
    (from <= to).then_some(((a.0 + dx * from, a.1 + dy * from), (a.0 + dx * to, a.1 + dy * to)))
}

/// The part of an area that is within (Sutherland and Hodgman, 1974).
pub(super) fn clipped(corners: &[Point]) -> Vec<Point> {
    // How far a place is within an edge.
    let edges: [fn(Point) -> f64; 4] = [|p| p.0, |p| 1.0 - p.0, |p| p.1, |p| 1.0 - p.1];
    let mut left = corners.to_vec();
    for within in edges {
        let before = std::mem::take(&mut left);
        for (i, &here) in before.iter().enumerate() {
            let last = before[(i + before.len() - 1) % before.len()];
            let (a, b) = (within(last), within(here));
            if (a >= 0.0) != (b >= 0.0) {
                let part = a / (a - b);
                left.push((last.0 + (here.0 - last.0) * part, last.1 + (here.1 - last.1) * part));
            }
            if b >= 0.0 {
                left.push(here);
            }
        }
    }
    left
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_outside_is_cut_off_at_the_edge() {
        assert_eq!(cut((-1.0, 0.5), (2.0, 0.5)), Some(((0.0, 0.5), (1.0, 0.5))));
        assert_eq!(cut((-1.0, 2.0), (2.0, 2.0)), None);
        assert_eq!(cut((0.25, 0.25), (0.25, 0.75)), Some(((0.25, 0.25), (0.25, 0.75))));
        let square = [(-1.0, -1.0), (0.5, -1.0), (0.5, 0.5), (-1.0, 0.5)];
        let within = clipped(&square);
        assert!(within.len() == 4 && within.iter().all(|p| (0.0..=0.5).contains(&p.0) && (0.0..=0.5).contains(&p.1)));
        assert!(clipped(&[(2.0, 2.0), (3.0, 2.0), (3.0, 3.0)]).is_empty());
    }
}
