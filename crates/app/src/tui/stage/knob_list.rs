//! The list of knobs: group by group, each open or folded, and the one that is chosen.

use velocitas_record::{Group, KNOBS, Knob, KnobSpec};

/// Which knob is chosen, and which groups show one line only.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct KnobList {
    /// A place in [`KNOBS`]; of a folded group always the first.
    chosen: usize,
    /// In the order of [`Group::ALL`].
    folded: [bool; Group::ALL.len()],
}

impl Default for KnobList {
    /// The link is open: a bad one is what all the rest is for.
    fn default() -> Self {
        Self { chosen: 0, folded: Group::ALL.map(|group| group != Group::Link) }
    }
}

/// A line of the list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::tui) enum Line {
    /// A group's.
    Head(Group),
    /// A knob's, by its place in [`KNOBS`].
    Knob(usize),
}

impl KnobList {
    /// The knob that keys turn.
    pub(in crate::tui) fn knob(&self) -> Knob {
        self.spec().knob
    }

    /// Its entry in the table.
    fn spec(&self) -> &'static KnobSpec {
        KNOBS[self.chosen]
    }

    fn group(&self) -> Group {
        self.spec().group
    }

    /// The chosen one's place in [`KNOBS`].
    pub(in crate::tui) const fn chosen(&self) -> usize {
        self.chosen
    }

    /// Whether a group is one line.
    pub(in crate::tui) const fn is_folded(&self, group: Group) -> bool {
        self.folded[group as usize]
    }

    /// Chooses the next line, or the one before.
    pub(in crate::tui) fn go(&mut self, down: bool) {
        let stops: Vec<usize> = (0..KNOBS.len()).filter(|place| self.is_stop(*place)).collect();
        let at = stops.iter().position(|place| *place == self.chosen).unwrap_or_default();
        self.chosen = stops[(at + if down { 1 } else { stops.len() - 1 }) % stops.len()];
    }

    /// Whether a place can be chosen: of a folded group the first stands for all.
    fn is_stop(&self, place: usize) -> bool {
        let group = KNOBS[place].group;
        !self.is_folded(group) || place == first_of(group)
    }

    /// Folds the chosen knob's group, or opens it.
    pub(in crate::tui) fn fold(&mut self) {
        let folded = &mut self.folded[self.group() as usize];
        *folded = !*folded;
        if *folded {
            self.chosen = first_of(self.group());
        }
    }

    /// Opens the chosen group, where it is folded: nothing of it can be turned before. Says whether it was.
    pub(in crate::tui) fn open(&mut self) -> bool {
        let was_folded = self.is_folded(self.group());
        if was_folded {
            self.fold();
        }
        was_folded
    }

    /// All lines, from above.
    pub(in crate::tui) fn lines(&self) -> Vec<Line> {
        let of = |group: Group| {
            let knobs = (0..KNOBS.len()).filter(move |place| KNOBS[*place].group == group && !self.is_folded(group));
            [Line::Head(group)].into_iter().chain(knobs.map(Line::Knob))
        };
        Group::ALL.into_iter().flat_map(of).collect()
    }

    /// The line that is chosen.
    pub(in crate::tui) fn chosen_line(&self) -> Line {
        if self.is_folded(self.group()) { Line::Head(self.group()) } else { Line::Knob(self.chosen) }
    }
}

fn first_of(group: Group) -> usize {
    KNOBS.iter().position(|spec| spec.group == group).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_knob_is_reached_once_its_group_is_open_and_a_folded_group_is_one_stop() {
        let mut list = KnobList::default();
        let walk = |list: &mut KnobList| {
            let mut seen = vec![list.chosen];
            list.go(true);
            while list.chosen != seen[0] {
                seen.push(list.chosen);
                list.go(true);
            }
            seen
        };
        let links = KNOBS.iter().filter(|spec| spec.group == Group::Link).count();
        assert_eq!(walk(&mut list).len(), links + Group::ALL.len() - 1);
        for _ in 1..Group::ALL.len() {
            list.go(false);
            while !list.open() {
                list.go(false);
            }
        }
        let mut all = walk(&mut list);
        all.sort_unstable();
        assert_eq!(all, (0..KNOBS.len()).collect::<Vec<_>>());
        assert!(KNOBS.is_sorted_by_key(|spec| spec.group));
    }

    #[test]
    fn folding_leaves_the_group_chosen_and_the_way_up_and_down_is_the_same() {
        let mut list = KnobList::default();
        (0..5).for_each(|_| list.go(true));
        list.fold();
        assert_eq!((list.chosen, list.chosen_line()), (0, Line::Head(Group::Link)));
        assert_eq!(list.lines().len(), Group::ALL.len());
        for _ in 0..Group::ALL.len() {
            let before = list.chosen;
            list.go(true);
            let next = list.chosen;
            list.go(false);
            assert_eq!(list.chosen, before);
            list.chosen = next;
        }
        assert_eq!(list.group(), Group::Link, "once around");
    }
}
