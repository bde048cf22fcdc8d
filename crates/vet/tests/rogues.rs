//! What is found of a rogue is found because of its cheat.

use velocitas_core::Rule;
use velocitas_lab::Course;
use velocitas_record::MemberId;
use velocitas_vet::breach::{attempts, try_out};

#[test]
fn what_is_found_without_a_trick_is_not_found_because_of_it() {
    let text = include_str!("rogues/hands-that-turn-fast.course.toml");
    let course = Course::parse("rogues.course.toml", text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let teal = MemberId::new(0);
    for seed in [1, 2] {
        let honest = try_out(&course, teal, &[], seed, None).expect("it runs");
        assert!(honest.finds.iter().any(Option::is_some), "hands that turn so fast are noted");
        for attempt in
            attempts(&course, teal).iter().filter(|a| ["flood", "hurry", "dawdle", "walls"].contains(&a.spec.key))
        {
            let rogue = try_out(&course, teal, std::slice::from_ref(attempt), seed, Some(&honest)).expect("it runs");
            let found = rogue.found(&honest).map(|(_, rule)| rule);
            // A flood is one, whoever sends it.
            let is_flood = found == Some(Rule::Flood) && attempt.amount >= 1.4;
            assert!(found.is_none() || is_flood, "{} {}: {found:?}", attempt.spec.key, attempt.amount);
        }
    }
}
