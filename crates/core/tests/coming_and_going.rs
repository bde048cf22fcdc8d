//! Who comes, who goes, who owns what: told as short stories.

use std::sync::Arc;

use crate::party::{GOOD, Link, MS, PATIENCE, Party};
use velocitas_core::altered::Altered;
use velocitas_core::walker::Walker;
use velocitas_core::{
    Address, Arrangement, BitWriter, Denied, EndedBy, EntityId, Fact, HostNanos, Ingredients, Kinds, Motion,
    PlayerSettings, Presence, Refused, Schema, Token, Unwatched, vec3,
};

const BAD: Link = Link { latency: 40, jitter: 60, loss: 25, doubled: 20 };

#[test]
fn a_newcomer_learns_of_everybody_and_everybody_of_the_newcomer() {
    for link in [GOOD, BAD] {
        let mut party = Party::of(4, Arrangement::SERVER, 3);
        party.link = link;
        for seat in 0..4 {
            party.join(seat);
            party.run(700);
        }
        party.run(2500);
        party.assert_known();
        assert_eq!(party.truth().len(), 4);
        for seat in 0..4 {
            assert_eq!(party.client(seat).owned().len(), 1, "{link:?}");
        }
    }
}

#[test]
fn a_leaver_vanishes_everywhere_at_once_however_much_is_lost() {
    for link in [GOOD, BAD] {
        let mut party = Party::playing(3, Arrangement::SERVER);
        let body = party.body(1).expect("it has one");
        party.link = link;
        party.leave(1);
        party.run(1000);
        assert!(party.server.state(body).is_none(), "well before it would be missed");
        party.assert_known();
        assert_eq!((party.truth().len(), party.client(1).presence()), (2, Presence::Left));
        let ended = |f: &&Fact| matches!(f, Fact::Ended { why: EndedBy::Leave, .. });
        assert_eq!(party.told.0.iter().filter(ended).count(), 1);
        assert_eq!(
            party.told.0.iter().filter(|f| matches!(f, Fact::Gone { entity, .. } if *entity == body)).count(),
            1
        );
    }
}

#[test]
fn who_leaves_while_it_still_joins_leaves_nothing_behind() {
    // Not welcomed yet, and welcomed but not playing yet.
    for (millis, connected) in [(60, 0), (220, 1)] {
        let mut party = Party::of(1, Arrangement::SERVER, 3);
        party.join(0);
        party.run(millis);
        assert_eq!((party.client(0).presence(), party.server.connections().count()), (Presence::Joining, connected));
        party.leave(0);
        party.run(200);
        assert_eq!(party.client(0).left_by(), Some(EndedBy::Leave), "after {millis} ms");
        assert_eq!((party.server.connections().count(), party.truth().len()), (0, 0), "well before it would be missed");
    }
}

#[test]
fn who_falls_silent_goes_on_then_stands_then_is_gone() {
    let mut party = Party::playing(2, Arrangement::SERVER);
    party.ahead(1, 1.0);
    party.run(500);
    let body = party.body(1).expect("it has one");
    party.crash(1);
    let mut at = |millis| {
        party.run(millis);
        party.east(body)
    };
    let (begin, held) = (at(60), at(i64::from(PATIENCE.hold_ms) - 60));
    assert!(held - begin > 0.8, "keys are held on: {}", held - begin);
    let (stands, later) = (at(300), at(1000));
    assert_eq!(stands, later, "then it stands");
    party.run(i64::from(PATIENCE.gone_ms) - 1500);
    assert!(party.server.state(body).is_none() && party.body(1).is_none(), "and is gone");
    party.run(300);
    party.assert_known();
    assert!(party.told.0.iter().any(|f| matches!(f, Fact::Ended { why: EndedBy::Silence, .. })));
    assert_eq!(party.server.connections().count(), 1);
}

#[test]
fn who_crashes_and_returns_is_the_same_player_with_the_same_entities() {
    // Before the server noticed, and after.
    for away in [100, 1500] {
        let mut party = Party::playing(2, Arrangement::SERVER);
        let barge = party.server.spawn(0, Walker::new().spawn(vec3(-9.0, 0.0, 0.0), 0.0)).expect("it fits");
        let token = party.seats[1].token;
        party.server.set_owners(barge, &[token]).expect("it is there");
        party.run(500);
        let (before, peer) = (party.truth(), party.server.peer_of(token).expect("connected"));
        party.crash(1);
        party.run(away);
        party.join(1);
        party.run(1500);
        party.assert_known();
        let after = party.server.peer_of(token).expect("connected");
        assert_eq!((party.truth(), after.slot), (before, peer.slot), "after {away} ms");
        assert_eq!(after.epoch, peer.epoch + 1);
        party.ahead(1, 1.0);
        party.run(500);
        assert!(party.east(barge) > -8.0 && party.east(party.body(1).expect("it has one")) > 5.0, "both obey");
    }
}

#[test]
fn who_comes_back_after_being_gone_stands_where_it_left_for_a_while() {
    for (away, remembers) in [(500, true), (i64::from(PATIENCE.keep_ms) + 500, false)] {
        let mut party = Party::playing(2, Arrangement::SERVER);
        party.ahead(1, 1.0);
        party.run(1000);
        party.ahead(1, 0.0);
        party.run(500);
        let stood = party.east(party.body(1).expect("it has one"));
        party.leave(1);
        party.run(away);
        assert_eq!(party.server.remembered(), usize::from(remembers));
        party.join(1);
        party.run(1000);
        party.assert_known();
        let stands = party.east(party.body(1).expect("it has one again"));
        assert_eq!(stands, if remembers { stood } else { 4.0 });
    }
}

#[test]
fn datagrams_of_an_earlier_connection_do_nothing() {
    let mut party = Party::playing(2, Arrangement::SERVER);
    // What the earlier life sends is under way for long.
    party.link = Link { latency: 700, ..GOOD };
    party.ahead(1, 1.0);
    party.run(400);
    party.crash(1);
    party.ahead(1, 0.0);
    party.link = GOOD;
    party.join(1);
    party.run(250);
    let peer = party.server.peer_of(party.seats[1].token);
    let body = party.body(1).expect("the same");
    let stood = party.east(body);
    party.run(1500);
    assert_eq!((party.server.peer_of(party.seats[1].token), party.east(body)), (peer, stood));
    party.assert_known();
}

#[test]
fn who_was_taken_for_gone_and_is_not_comes_back_by_itself() {
    let mut party = Party::playing(2, Arrangement::SERVER);
    party.seats[1].frozen_until = party.now + 4000 * MS;
    party.run(3500);
    assert_eq!(party.server.connections().count(), 1, "it is taken for gone");
    party.run(2500);
    party.assert_known();
    assert_eq!((party.server.connections().count(), party.truth().len()), (2, 2));
    // And where only the server is unheard.
    party.link.loss = 100;
    party.run(3000);
    assert_eq!((party.server.connections().count(), party.client(0).presence()), (0, Presence::Joining));
    party.link.loss = 0;
    party.run(1500);
    party.assert_known();
    assert_eq!(party.server.connections().count(), 2);
}

#[test]
fn a_new_owner_predicts_from_there_and_the_old_ones_inputs_do_nothing() {
    for arrangement in [Arrangement::SERVER, Arrangement::CLAIMS] {
        let mut party = Party::playing(2, arrangement);
        let cart = party.server.spawn(0, Walker::new().spawn(vec3(-50.0, 0.0, 0.0), 0.0)).expect("it fits");
        let tokens = [party.seats[0].token, party.seats[1].token];
        party.server.set_owners(cart, &tokens[..1]).expect("it is there");
        party.ahead(0, 1.0);
        party.ahead(1, -1.0);
        party.run(1000);
        let turned = party.east(cart);
        assert!(turned > -48.0, "{arrangement:?}: {turned}");
        party.server.set_owners(cart, &tokens[1..]).expect("it is there");
        let at = party.server.newest_tick().next();
        let has = |seat: usize| party.client(seat).owned().iter().any(|o| o.entity == cart);
        assert!(has(0) && !has(1));
        party.run(1000);
        assert!(party.east(cart) < turned, "{arrangement:?}: it goes back");
        party.assert_known();
        assert_eq!(party.server.refused(), 0, "what was under way is no fault of the old owner's");
        let owners = party.told.0.iter().filter_map(|f| match f {
            Fact::Owner { entity, tick, player, owns } if *entity == cart && *tick == at => Some((*player, *owns)),
            _ => None,
        });
        assert_eq!(owners.collect::<Vec<_>>(), [(tokens[0], false), (tokens[1], true)]);
        // Predicted, not waited for: it answers within a frame.
        party.ahead(1, 1.0);
        let before = party.client(1).own_state(cart).expect("its own").vec3(3).x;
        party.run(32);
        assert!(party.client(1).own_state(cart).expect("its own").vec3(3).x > before + 0.3, "{arrangement:?}");
    }
}

#[test]
fn of_several_owners_the_order_that_arrived_last_is_obeyed_and_nobody_predicts() {
    for arrangement in [Arrangement::SERVER, Arrangement::CLAIMS] {
        let mut party = Party::playing(2, arrangement);
        let unit = party.server.spawn(0, Walker::new().spawn(vec3(0.0, 30.0, 0.0), 0.0)).expect("it fits");
        let tokens = [party.seats[0].token, party.seats[1].token];
        party.server.set_owners(unit, &tokens).expect("it is there");
        let mut run = |seat: usize, speed, millis| {
            party.ahead(seat, speed);
            party.run(millis);
            party.server.state(unit).expect("there").vec3(3).x
        };
        assert_eq!(run(0, 0.0, 500), 0.0);
        assert!(run(0, 1.0, 1000) > 3.0, "the first goes ahead");
        assert!(run(1, -1.0, 1000) < -3.0, "the second has said back since");
        assert!(run(0, 0.0, 1000).abs() < 0.1, "the first has said stop since");
        let obeyed = party.told.0.iter().filter_map(|f| match f {
            Fact::Obeyed { peer, entity, .. } if *entity == unit => Some(peer.slot),
            _ => None,
        });
        let obeyed: Vec<u16> = obeyed.collect();
        assert!(obeyed.ends_with(&[0, 1, 0]), "{arrangement:?}: the record says so: {obeyed:?}");
        // Nothing is seen of an order before the server has it but the order itself, at once.
        party.ahead(1, 1.0);
        party.run(32);
        let order = party.client(1).order(unit).expect("it gives orders");
        assert_eq!((order.input.real(velocitas_core::walker::input_lane::MOVE + 1), order.arrived), (1.0, false));
        assert!(party.client(1).own_state(unit).expect("received").vec3(3).x.abs() < 0.1);
        party.run(200);
        assert!(party.client(1).order(unit).is_some_and(|order| order.arrived));
        party.assert_known();
        party.server.set_owners(unit, &tokens[..1]).expect("it is there");
        party.ahead(0, 1.0);
        party.run(1000);
        party.assert_known();
        party.ahead(0, 0.0);
        party.run(32);
        assert!(party.client(0).own_state(unit).expect("its own").vec3(3).x < 4.0, "alone, it predicts");
        let accused = party.told.0.iter().filter(|f| matches!(f, Fact::Verdict(_))).count();
        assert_eq!(accused, 0, "{arrangement:?}: nobody did wrong");
    }
}

#[test]
fn what_is_taken_out_of_the_world_is_gone_and_its_slots_next_tenant_is_another() {
    let mut party = Party::playing(2, Arrangement::SERVER);
    let body = party.body(1).expect("it has one");
    assert!(party.server.remove(body) && !party.server.remove(body));
    let twin = party.server.spawn(0, Walker::new().spawn(vec3(40.0, 0.0, 0.0), 0.0)).expect("there is room");
    assert_eq!((twin.index, twin.generation), (body.index, body.generation + 1));
    party.run(500);
    party.assert_known();
    assert!(party.client(1).owned().is_empty());
    assert_eq!(party.east(twin), 40.0, "nobody's keys move it");
}

/// A walker that does something else, or remembers something more.
fn odd(change: impl FnOnce(&mut Schema)) -> Kinds {
    let mut odd = Altered::named("odd");
    change(&mut odd.schema);
    odd.after = Box::new(|_, _, step| step.state.set_real(0, step.state.real(0) + 0.001));
    Kinds::new(vec![Arc::new(odd)]).expect("a sound schema")
}

#[test]
fn another_layout_is_refused_in_words_and_another_rule_is_let_in_and_noted() {
    let mut party = Party::playing(1, Arrangement::SERVER);
    party.server.invite(velocitas_core::Guest {
        token: party.seats[0].token,
        arrangement: Arrangement::SERVER,
        settings: PlayerSettings::DEFAULT,
        body: None,
    });
    party.crash(0);
    let with = |party: &Party, kinds: &Kinds| Ingredients::new(party.ingredients.ground.clone(), kinds);
    let wider = with(&party, &odd(|schema| schema.state[1].name = "speed"));
    party.join_with(0, wider);
    party.run(1500);
    let refused = party.client(0).refused_for().map(ToString::to_string);
    let words = "the server's walker has another layout than yours: field `vel` is the server's only";
    assert_eq!(refused.as_deref(), Some(words));
    assert_eq!(party.client(0).presence(), Presence::Refused);
    let denied = |f: &&Fact| matches!(f, Fact::Refused { from: Address(0), why: Denied::Layout });
    let told = party.told.0.iter().filter(denied).count();
    assert!((1..=5).contains(&told), "it does not press: {told} times in 30 hellos");

    party.crash(0);
    let other = with(&party, &odd(|_| {}));
    party.join_with(0, other);
    party.run(1000);
    party.assert_known();
    assert!(party.told.0.iter().any(|f| matches!(f, Fact::RuleDiffers { kind: 0, .. })));
}

#[test]
fn who_is_not_expected_and_who_has_other_rules_is_told_so() {
    let mut party = Party::of(2, Arrangement::SERVER, 9);
    party.server.uninvite(party.seats[0].token);
    party.join(0);
    let none = Ingredients::new(party.ingredients.ground.clone(), &Kinds::new(Vec::new()).expect("none is sound"));
    party.join_with(1, none);
    party.run(800);
    assert_eq!(party.client(0).refused_for(), Some(&Refused::Unknown));
    assert_eq!(party.client(1).refused_for(), Some(&Refused::Kinds { theirs: 1, ours: 0 }));
    assert_eq!((party.server.connections().count(), party.truth().len()), (0, 0));
}

#[test]
fn another_version_is_refused_with_the_number() {
    let mut party = Party::of(1, Arrangement::SERVER, 9);
    party.join(0);
    let mut client = party.client(0).clone();
    let clock = HostNanos(0);
    client.handle_time(clock, &mut Unwatched);
    let mut hello = client.poll_transmit().expect("it asks");
    hello[0] = hello[0] & !7 | 2;
    assert!(party.server.handle_datagram(clock, Address(0), &hello, &mut party.told).is_err());
    let (to, mut answer) = party.server.poll_transmit().expect("it is told");
    assert!(to == Address(0) && answer.len() <= hello.len());
    // As the asker would read it: the first three bits are another number than its own.
    answer[0] = answer[0] & !7 | 6;
    assert!(client.handle_datagram(clock, &answer, &mut Unwatched).is_err());
    assert_eq!(client.refused_for(), Some(&Refused::Version { theirs: 14 }));
    // Junk is not worth an answer.
    let _ = party.server.handle_datagram(clock, Address(0), &[2; 12], &mut party.told);
    assert!(party.server.poll_transmit().is_none());
}

/// A hello without a cookie, as a crowd sends it.
fn knock(token: u64) -> Vec<u8> {
    let mut out = BitWriter::new();
    let header = velocitas_core::Acks::default().header(velocitas_core::MessageKind::Hello, 0, HostNanos(0));
    header.write(&mut out);
    let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema").prints().to_vec();
    let life = velocitas_core::Life(token);
    velocitas_core::Hello { token: Token(token), life, cookie: 0, kinds }.write(&mut out);
    out.finish()
}

#[test]
fn a_crowd_at_the_door_leaves_nothing_behind_and_keeps_nobody_out() {
    let mut party = Party::playing(2, Arrangement::SERVER);
    party.crash(1);
    party.run(100);
    let before = party.server.bytes();
    party.join(1);
    let mut crowd = 0;
    for _ in 0..250 {
        // Ten thousand a second, each from somewhere else, some of them with a player's name.
        for _ in 0..80 {
            crowd += 1;
            let clock = party.clock();
            let bytes = knock(if crowd % 3 == 0 { 101 } else { crowd });
            party.server.handle_datagram(clock, Address(1000 + crowd), &bytes, &mut party.told).expect("well formed");
        }
        party.run(8);
    }
    assert!(party.server.turned_away() > 10_000);
    party.assert_known();
    assert_eq!(party.server.connections().count(), 2, "the one who returned is in");
    let grown = party.server.bytes().saturating_sub(before);
    // Of those who knocked nothing; of those who play their last 64 words, of inputs.
    assert!(grown < 8000, "{grown} bytes stay");
    assert_eq!(party.truth().len(), 2);
}

#[test]
fn hellos_of_a_life_that_ended_do_not_bring_it_back() {
    let mut party = Party::of(1, Arrangement::SERVER, 4);
    // Everything that goes up arrives a second time, long after it was sent.
    party.link = Link { doubled: 100, ..GOOD };
    party.join(0);
    party.run(1000);
    party.leave(0);
    for _ in 0..20 {
        party.run(200);
        let left = party.client(0).presence() == Presence::Left;
        assert_eq!((party.server.connections().count() == 0, party.truth().is_empty()), (left, left));
    }
    assert_eq!(party.client(0).left_by(), Some(EndedBy::Leave));
    assert!(party.server.world().get(EntityId::first(0)).is_none());
}
