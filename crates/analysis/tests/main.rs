//! What is asked of a record that was told by hand: no lab, no links, so that every answer can be worked out on paper.

mod answers;
mod told;
