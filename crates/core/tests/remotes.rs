//! How others are drawn where something is missing: they run on or stand, come back without a hop, and never creep.

use velocitas_core::walker::input_lane;
use velocitas_core::{
    Arrangement, ClientSettings, Drawn, EaseBy, Easing, PlayerSettings, RemoteSettings, RemotesAt, RunOn, Tick, Vec3,
    ViewBy, ViewDelay, vec3,
};

use crate::pair::{MS, OTHER, OWN, PLAYER, Pair};

/// A terminal draws its own walker as everybody else is drawn.
fn terminal(remotes: RemoteSettings) -> Pair {
    let mut pair = Pair::playing_as(Arrangement::TERMINAL);
    pair.client.set_settings(ClientSettings { remotes, ..ClientSettings::DEFAULT });
    pair
}

/// The walker at each frame of some time: how it came about, and where.
fn film(pair: &mut Pair, millis: i64) -> Vec<(Drawn, Vec3)> {
    let mut frames = Vec::new();
    let until = pair.now + millis * MS;
    while pair.now < until {
        pair.run(16);
        let drawn = pair.drawn(OWN).expect("it is there");
        frames.push((drawn.how, drawn.state.vec3(0)));
    }
    frames
}

/// The farthest that it goes from one frame to the next.
fn farthest(frames: &[(Drawn, Vec3)]) -> f32 {
    frames.windows(2).map(|w| w[1].1.distance(w[0].1)).fold(0.0, |most, step| if step > most { step } else { most })
}

/// It walks, turns back while nothing gets through for a third of a second, and what was missed comes.
fn missed(remotes: RemoteSettings) -> Vec<(Drawn, Vec3)> {
    let mut pair = terminal(remotes);
    pair.walk();
    pair.run(2000);
    pair.lose = |up, _| !up;
    pair.keys.set_real(input_lane::MOVE + 1, -1.0);
    let mut frames = film(&mut pair, 400);
    pair.lose = |_, _| false;
    frames.extend(film(&mut pair, 2400));
    frames
}

#[test]
fn who_ran_on_comes_back_without_a_hop_in_whichever_way_is_set() {
    let back = |by| RemoteSettings { back: Easing { by, ms: 150, speed: 4.0 }, ..RemoteSettings::DEFAULT };
    let at_once = missed(back(EaseBy::None));
    assert!(at_once.iter().all(|(how, _)| *how != Drawn::Returning));
    let hop = farthest(&at_once);
    assert!(hop > 0.3, "it ran on the wrong way: {hop} m");
    for by in [EaseBy::Smooth, EaseBy::HalfLife, EaseBy::Speed] {
        let frames = missed(back(by));
        let most = farthest(&frames);
        assert!(most < 0.6 * hop, "{by:?}: {most} m in a frame, {hop} m at once");
        assert!(frames.iter().any(|(how, _)| *how == Drawn::Returning), "{by:?}");
        // In the end it is where everybody has it.
        assert_eq!(frames.last().map(|last| last.0), Some(Drawn::Blended), "{by:?}");
        assert!(frames.last().zip(at_once.last()).is_some_and(|(a, b)| a.1.distance(b.1) < 1e-3), "{by:?}");
    }
}

#[test]
fn who_is_to_stand_stands_until_more_comes() {
    let held = missed(RemoteSettings { run_on: RunOn::Hold, ..RemoteSettings::DEFAULT });
    assert!(held.iter().all(|(how, _)| *how != Drawn::Extrapolated));
    let stood: Vec<_> = held.iter().filter(|(how, _)| *how == Drawn::Held).collect();
    assert!(stood.len() > 5 && stood.iter().all(|(_, place)| *place == stood[0].1), "{stood:?}");
}

#[test]
fn who_stands_is_drawn_in_one_place_whatever_is_lost_and_in_whichever_way() {
    for (by, run_on) in
        [(EaseBy::None, RunOn::Velocity), (EaseBy::Speed, RunOn::Velocity), (EaseBy::Smooth, RunOn::Hold)]
    {
        let back = Easing { by, ms: 150, speed: 4.0 };
        let remotes = RemoteSettings { back, run_on, view_by: ViewBy::Lateness, ..RemoteSettings::DEFAULT };
        let mut pair = terminal(remotes);
        pair.walk();
        pair.run(1000);
        pair.stand();
        pair.run(3000);
        pair.lose = |up, number| !up && number % 7 < 4;
        let frames = film(&mut pair, 4000);
        assert!(frames.iter().all(|(_, place)| *place == frames[0].1), "{by:?}");
    }
}

#[test]
fn an_automatic_delay_by_lateness_is_an_interval_where_the_way_is_even_and_grows_with_what_is_lost() {
    let mut pair = terminal(RemoteSettings { view_by: ViewBy::Lateness, late_share: 0.0, ..RemoteSettings::DEFAULT });
    pair.run(12_000);
    let even = film(&mut pair, 500);
    assert!(even.iter().all(|(how, _)| *how == Drawn::Blended));
    let behind = |pair: &Pair| {
        let drawn = pair.drawn(OTHER).expect("somebody else");
        pair.now as f64 / 1e6 - (drawn.tick.0 as f64 + f64::from(drawn.fraction)) * 1000.0 / 60.0
    };
    let least = behind(&pair);
    assert!((80.0..=115.0).contains(&least), "{least} ms: 40 on the way, an interval of 50, and a frame");
    pair.lose = |up, number| !up && number % 36 < 12;
    pair.run(8000);
    let lossy = film(&mut pair, 3000);
    assert!(lossy.iter().all(|(how, _)| *how == Drawn::Blended), "nobody runs dry any more");
    let most = behind(&pair);
    assert!(most > least + 120.0, "{most} ms: three in a row are lost");
    pair.lose = |_, _| false;
    pair.run(16_000);
    assert!(behind(&pair) < least + 10.0, "{} ms: it narrows again", behind(&pair));
}

/// Somebody else is pushed and comes to rest while nothing gets through: how far from where it is it is drawn at most, and how that came about.
fn pushed(run_on: RunOn) -> (f32, Vec<Drawn>) {
    let mut pair = Pair::playing();
    let view_delay = ViewDelay::Millis(0);
    let remotes = RemoteSettings { run_on, view_delay, extrapolate_ms: 500, ..RemoteSettings::DEFAULT };
    pair.client.set_settings(ClientSettings { remotes, ..ClientSettings::DEFAULT });
    let tells_inputs = run_on == RunOn::Rule;
    pair.server.set_settings(PLAYER, PlayerSettings { tells_inputs, ..PlayerSettings::DEFAULT });
    pair.run(3000);
    pair.server.push(OTHER, vec3(7.0, 0.0, 0.0));
    // One snapshot of it under way is enough.
    pair.run(60);
    pair.lose = |up, _| !up;
    let (mut most, mut hows) = (0.0f32, Vec::new());
    for _ in 0..25 {
        pair.run(16);
        let drawn = pair.drawn(OTHER).expect("somebody else");
        let then = pair.told.others.iter().find(|(tick, _)| *tick == drawn.tick).expect("it was made").1;
        let off = then.vec3(0).distance(drawn.state.vec3(0));
        most = if off > most { off } else { most };
        hows.push(drawn.how);
    }
    (most, hows)
}

#[test]
fn by_its_rule_somebody_comes_to_rest_where_it_does() {
    let (by_velocity, hows) = pushed(RunOn::Velocity);
    assert!(hows.contains(&Drawn::Extrapolated) && !hows.contains(&Drawn::ByRule));
    let (by_rule, hows) = pushed(RunOn::Rule);
    assert!(hows.contains(&Drawn::ByRule) && !hows.contains(&Drawn::Extrapolated), "{hows:?}");
    assert!(by_velocity > 0.4 && by_rule < 0.25, "off by {by_velocity} m by velocity, {by_rule} m by rule");
}

/// Somebody else is pushed and comes to rest, and is drawn in the present meanwhile: in each frame the tick drawn, and where.
fn pushed_in_the_present(by: EaseBy) -> (Pair, Vec<(Tick, Vec3)>) {
    let mut pair = Pair::playing();
    let back = Easing { by, ms: 600, speed: 4.0 };
    let remotes = RemoteSettings { at: RemotesAt::Present, back, ..RemoteSettings::DEFAULT };
    pair.client.set_settings(ClientSettings { remotes, ..ClientSettings::DEFAULT });
    pair.server.set_settings(PLAYER, PlayerSettings { tells_inputs: true, ..PlayerSettings::DEFAULT });
    pair.run(3000);
    pair.server.push(OTHER, vec3(7.0, 0.0, 0.0));
    let mut frames = Vec::new();
    for _ in 0..60 {
        pair.run(16);
        let (other, own) = (pair.drawn(OTHER).expect("somebody else"), pair.drawn(OWN).expect("the own"));
        assert_eq!((other.tick, other.how), (own.tick, Drawn::ByRule));
        assert!((other.fraction - own.fraction).abs() < 1e-4);
        frames.push((other.tick, other.state.vec3(0)));
    }
    pair.run(500);
    (pair, frames)
}

#[test]
fn in_the_present_others_are_where_the_server_will_have_them_once_it_is_heard_what_befell_them() {
    let (pair, frames) = pushed_in_the_present(EaseBy::None);
    let made = |tick: Tick| {
        let state = pair.told.others.iter().find(|(of, _)| *of == tick).map(|(_, state)| state.vec3(0));
        state.expect("it was made since")
    };
    let off = |(tick, place): &(Tick, Vec3)| {
        let (a, b) = (made(*tick), made(tick.next()));
        let (before, after) = (place.distance(a), place.distance(b));
        (if before < after { before } else { after }) - a.distance(b)
    };
    let late = frames.iter().position(|frame| off(frame) > 0.1).expect("the push comes unforeseen");
    let again = late + frames[late..].iter().position(|frame| off(frame) < 0.01).expect("it is heard of");
    assert!((2..25).contains(&(again - late)), "from frame {late} to {again}");
    for frame in &frames[again..] {
        assert!(off(frame) < 0.01, "{frame:?} is {} m off", off(frame));
    }
}

#[test]
fn what_was_not_foreseen_in_the_present_is_eased_as_a_return_is() {
    let steps = |by| {
        let (_, frames) = pushed_in_the_present(by);
        frames
            .windows(2)
            .map(|w| w[1].1.distance(w[0].1))
            .fold(0.0f32, |most, step| if step > most { step } else { most })
    };
    let (at_once, eased) = (steps(EaseBy::None), steps(EaseBy::Smooth));
    assert!(at_once > 0.4 && eased < 0.05, "{at_once} m in a frame at once, {eased} m eased");
}

#[test]
fn what_others_were_made_with_is_paid_for_where_it_is_asked_for_only() {
    let bytes = |tells_inputs| {
        let mut pair = Pair::playing();
        pair.server.set_settings(PLAYER, PlayerSettings { tells_inputs, ..PlayerSettings::DEFAULT });
        pair.run(500);
        pair.largest_down = 0;
        pair.run(1000);
        pair.largest_down
    };
    // One bit that it is known, and the 29 of a walker's input.
    assert!((3..=4).contains(&(bytes(true) - bytes(false))));
}

#[test]
fn who_is_put_elsewhere_while_it_comes_back_is_there_at_once() {
    let put = |by| {
        let back = Easing { by, ms: 2000, speed: 4.0 };
        let mut pair = terminal(RemoteSettings { back, ..RemoteSettings::DEFAULT });
        pair.walk();
        pair.run(2000);
        pair.lose = |up, _| !up;
        pair.keys.set_real(input_lane::MOVE + 1, -1.0);
        pair.run(400);
        pair.lose = |_, _| false;
        pair.run(300);
        pair.server.teleport(OWN, vec3(-40.0, 20.0, 0.0));
        pair.run(600);
        pair.drawn(OWN).expect("it is there")
    };
    let (eased, plain) = (put(EaseBy::HalfLife), put(EaseBy::None));
    assert_eq!((eased.how, eased.state.vec3(0)), (Drawn::Blended, plain.state.vec3(0)));
}
