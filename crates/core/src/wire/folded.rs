//! Numbers on both sides of nought as numbers from nought on: 0, -1, 1, -2, 2 become 0, 1, 2, 3, 4.

/// Folds a number.
pub(crate) const fn fold(number: i32) -> u32 {
    (number << 1 ^ number >> 31) as u32
}

/// Unfolds it.
pub(crate) const fn unfold(folded: u32) -> i32 {
    (folded >> 1) as i32 ^ -((folded & 1) as i32)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_ones_stay_small_and_all_come_back() {
        assert_eq!([0, -1, 1, -2, 2].map(fold), [0, 1, 2, 3, 4]);
        for number in [i32::MIN, i32::MIN + 1, -70_000, -1, 0, 1, 9, i32::MAX] {
            assert_eq!(unfold(fold(number)), number);
        }
    }
}
