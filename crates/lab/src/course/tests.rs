use super::*;

/// The demo course with one mistake in it: the first `from` becomes `to`.
#[track_caller]
fn mistake(from: &str, to: &str) -> String {
    assert!(DEMO.contains(from), "`{from}` is not in the demo course");
    match Course::parse(DEMO_FILE, &DEMO.replacen(from, to, 1), &[]) {
        Ok(_) => panic!("`{to}` was accepted"),
        Err(error) => error.to_string(),
    }
}

#[test]
fn the_demo_course_is_sound_and_as_its_comments_say() {
    let course = Course::demo();
    let names: Vec<&str> = course.cast.iter().map(|m| m.name.as_str()).collect();
    assert_eq!(names, ["plover", "heron", "dunlin", "curlew", "magpie", "teal"]);
    assert_eq!(course.world.solids.iter().filter(|s| s.known_to == KnownTo::Server).count(), 1);
    assert_eq!(course.cast[4].role, Role::Rogue);
    assert_eq!(course.cast[3].arrangement, Arrangement::CLAIMS);
    let clients = course.ground(KnownTo::Clients).solids().len();
    assert_eq!(clients + 1, course.ground(KnownTo::Server).solids().len());
}

/// Each is a mistake that somebody would make; what is said about it is looked at as text.
#[test]
fn mistakes_are_told_where_they_are_and_what_was_expected() {
    let mistakes = [
        ("format = 1", "format = 2"),
        ("freeze = { who = \"dunlin\", lasts = \"1.2 s\" }", "ground = { solid = \"crate 9\", known_to = \"all\" }"),
        ("freeze = { who = \"dunlin\", lasts = \"1.2 s\" }", "ground = { solid = \"crate 7\", known_to = \"noone\" }"),
        ("format = 1\n", ""),
        ("tick_rate = \"60 Hz\"", "tick_rate = 60"),
        ("tick_rate = \"60 Hz\"", "tick_rate = \"60 ms\""),
        ("tick_rate = \"60 Hz\"", "tick_rate = \"2000 Hz\""),
        ("tick_rate = \"60 Hz\"", "tick_rate = \"59.94 Hz\""),
        ("snapshot_every = 3", "snapshot_every = 0"),
        ("seed = 40", "first_tick = -5"),
        ("latency = \"22 ms\"", "latancy = \"22 ms\""),
        ("latency = \"22 ms\"", "latency = \"22 m\""),
        ("latency = \"22 ms\"", "latency = \"-22 ms\""),
        ("latency = \"22 ms\"", "latency = \"fast\""),
        ("loss = \"2 %\"", "loss = \"0.02\""),
        ("loss = \"2 %\"", "loss = \"200 %\""),
        ("latency = \"22 ms\"", "latency = \"99999999999999999999 min\""),
        ("clock_drift = \"-15 ppm\"", "clock_drift = \"99999999 ppm\""),
        ("link = \"fibre\"", "link = \"fiber\""),
        ("role = \"helm\"", "role = \"pilot\""),
        ("arrangement = \"claims\"", "arrangement = \"claim\""),
        ("spawn = [-16, -1]", "spawn = [-27, 4]"),
        ("spawn = [-16, -1]", "spawn = [-60, 4]"),
        ("spawn = [-16, -1]", "spawn = [-8.5, 0.2]"),
        ("spawn = [-16, -1]", "spawn = [-16]"),
        ("name = \"heron\"", "name = \"plover\""),
        ("name = \"heron\"", "name = \"server\""),
        ("name = \"crate 2\"", "name = \"crate 1\""),
        ("surface = \"ice\"", "surface = \"icy\""),
        ("known_to = \"server\"", "known_to = \"servers\""),
        ("size = [12, 8]", "size = [12, -8]"),
        ("height = \"4 m\"", "height = \"4\""),
        ("min = [-42, -26]\nmax = [42, 26]", "min = [42, -26]\nmax = [-42, 26]"),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [5, 200], hold = [\"sprint\"] }"),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [5, 2], wiat = \"1 s\" }"),
        ("{ jump = \"6 m\", at", "{ jump = \"6 m\", run = \"2 times\", at"),
        ("{ jump = \"6 m\", at", "{ overreach = \"6 times\", at"),
        ("role = \"rogue\"", "role = \"bot\""),
        ("who = \"plover\", east", "who = \"plower\", east"),
        ("[[cast]]\nname = \"plover\"", "[[cast]]\narrangement = \"relay\"\nname = \"plover\""),
        ("push = { who", "freeze = { who = \"heron\", lasts = \"1 s\" }\npush = { who"),
        ("every = \"17 s\"", "every = \"17 ms\""),
        ("ticks_per_message = 5", "ticks_per_message = 40"),
        ("ticks_per_message = 5", "view_delay = \"soon\""),
        ("[[cast]]\nname = \"plover\"", "[[cast]\nname = \"plover\""),
        ("name = \"Lampwick Quay\"", "name = \"Lampwick Quay"),
        ("gait = \"../gaits/courier.gait\"", "gait = \"../gaits/currier.gait\""),
        ("gait = \"../gaits/courier.gait\"", "gait = \"../gaits/courier.gait\"\nrule = \"walker\""),
        ("gait = \"../gaits/courier.gait\"", "gait = [\"courier.gait\"]"),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"curier\"\nset = { walk = \"5 m/s\" }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nset = { wlak = \"5 m/s\" }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nset = { walk = 5 }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nset = { walk = \"5 kmh\" }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nset = { walk = \"500 m/s\" }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nset = { walk = true }\n\n[[cast]]\nname = \"plover\"",
        ),
        (
            "[[cast]]\nname = \"plover\"",
            "[[tune]]\nrule = \"courier\"\nknown_to = \"client\"\nset = { haste = 1.2 }\n\n[[cast]]\nname = \"plover\"",
        ),
        ("[[cast]]\nname = \"plover\"", "[[tune]]\nrule = \"courier\"\n\n[[cast]]\nname = \"plover\""),
    ];
    let told: Vec<String> = mistakes.iter().map(|(from, to)| mistake(from, to)).collect();
    insta::assert_snapshot!(told.join("\n\n"));
}

#[test]
fn mistakes_of_hands_are_told_where_they_are() {
    let place = |with: &str| mistake("{ at = [5, 2], hold = [\"sprint\"] }", &format!("{{ at = [5, 2], {with} }}"));
    let script =
        |with: &str| mistake("route = [\n    { at = [8, -19]", &format!("{with}\nroute = [\n    {{ at = [8, -19]"));
    let only = |with: &str| mistake("role = \"rogue\"", &format!("role = \"rogue\"\n{with}"));
    let told = [
        place("axis = { throttle = 2 }"),
        place("pace = 2"),
        place("order = [1, 2, 3, 4]"),
        place("order = [1, 200]"),
        place("height = \"4\""),
        script("script = [{ lasts = \"2 s\", stick = [0, 1] }]"),
        only("random = \"0 /s\""),
        only("random = 3"),
        script("random = \"3 Hz\""),
    ];
    insta::assert_snapshot!(told.join("\n\n"));
}

#[test]
fn mistakes_of_coming_and_going_are_told_where_they_are() {
    let mistake = |from: &str, to: &str| {
        assert!(COMINGS.contains(from), "{from}");
        let text = COMINGS.replacen(from, to, 1);
        match Course::parse("comings.course.toml", &text, &[]) {
            Ok(_) => panic!("`{to}` was accepted"),
            Err(error) => error.to_string(),
        }
    };
    let told = [
        // Who never left, who is there, who is not.
        mistake("crash = { who = \"curlew\" }", "return = { who = \"curlew\" }"),
        mistake("return = { who = \"curlew\" }", "join = { who = \"curlew\" }"),
        mistake("at = \"20 s\"\nevery = \"60 s\"\nleave", "at = \"7 s\"\nevery = \"60 s\"\nleave"),
        mistake("return = { who = \"teal\" }", "return = { who = \"teel\" }"),
        // It comes again, and by then it is there.
        mistake("at = \"15.2 s\"\nevery = \"60 s\"\nreturn", "at = \"15.2 s\"\nevery = \"50 s\"\nreturn"),
        // What is gone, what there is not, who owns twice, who is nobody.
        mistake("own = { what = \"handcart\", by = [] }", "own = { what = \"teal\", by = [] }"),
        mistake("what = \"handcart\"", "what = \"hand cart\""),
        mistake("owners = [\"heron\", \"plover\"]", "owners = [\"heron\", \"heron\"]"),
        mistake("owners = [\"heron\", \"plover\"]", "owners = [\"barge\"]"),
        mistake("crash = { who = \"curlew\" }", "crash = { who = \"curlew\" }\nleave = { who = \"curlew\" }"),
        mistake("name = \"barge\"", "name = \"heron\""),
        mistake("at = [8, 19]", "at = [-3, 7]"),
        mistake("gone = \"5 s\"", "gone = \"300 ms\""),
        mistake("hold = \"400 ms\"", "hold = \"6 s\""),
        mistake("order = [-12, -17]", "order = [-120, -17]"),
        mistake("joins = \"4 s\"", "joins = \"4 s\"\nfaults = [\"untolled\"]"),
    ];
    insta::assert_snapshot!(told.join("\n\n"));
}

#[test]
fn a_rule_of_ones_own_is_known_by_its_name() {
    let error = mistake("gait = \"../gaits/courier.gait\"", "rule = \"glider\"");
    assert!(error.contains("expected a rule (walker, courier, ferry); found `glider`"), "{error}");
}

proptest::proptest! {
    /// Whatever is cut out of a course, reading it ends with a course or an error.
    #[test]
    fn any_text_is_a_course_or_an_error(
        from in 0usize..6000, length in 0usize..400, junk in ".{0,12}", comes in proptest::bool::ANY,
    ) {
        let whole = if comes { COMINGS } else { DEMO };
        let from = (from..).find(|&i| i >= whole.len() || whole.is_char_boundary(i)).unwrap_or(0).min(whole.len());
        let to = (from + length).min(whole.len());
        let to = (to..=whole.len()).find(|&i| whole.is_char_boundary(i)).unwrap_or(whole.len());
        let text = format!("{}{junk}{}", &whole[..from], &whole[to..]);
        let _ = Course::parse("cut.course.toml", &text, &[]).map_err(|e| e.to_string());
    }
}

/// What used to be taken, or was said wrongly.
#[test]
fn nonsense_is_refused_in_words() {
    let mistakes = [
        ("spawn = [-16, -1]", "spawn = [nan, 0]"),
        ("spawn = [-16, -1]", "spawn = [0, inf]"),
        ("spawn = [-16, -1]", "spawn = [1e38, 0]"),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [nan, 2], hold = [\"sprint\"] }"),
        ("at = [-27, 4]", "at = [nan, 4]"),
        ("size = [12, 8]", "size = [nan, 8]"),
        ("min = [-42, -26]\nmax = [42, 26]", "min = [nan, -26]\nmax = [42, 26]"),
        ("min = [2, -24]", "min = [-inf, -24]"),
        ("name = \"heron\"", "name = \"all\""),
        ("name = \"heron\"", "name = \"clients\""),
        ("name = \"heron\"", "name = \"\""),
        ("name = \"heron\"", "name = \"he\\nron\""),
        ("name = \"heron\"", "name = \"\\u001b[31mheron\""),
        ("name = \"heron\"", "name = \"he\\u202Eron\""),
        ("name = \"heron\"", "name = \"heron of the northern pier, second watch\""),
        ("name = \"Lampwick Quay\"", "name = \"\\u0007\""),
        ("name = \"crate 1\"", "name = \"crate\\t1\""),
        ("name = \"icy slip\"", "name = \"   \""),
        ("latency = \"22 ms\"", "latency = \"1e0 sec\""),
        ("height = \"4 m\"", "height = \"1000000 m\""),
        ("height = \"4 m\"", "height = \"1e9 mm\""),
        ("seed = 40", "seed = 7.5"),
        ("seed = 40", "seed = -1"),
        ("snapshot_every = 3", "snapshot_every = 2.5"),
        ("spawn = [-16, -1]", "spawn = { x = 1 }"),
        ("spawn = [-16, -1]", "spawn = [\"a\", 2]"),
        ("spawn = [-16, -1]", "spawn = [1, 2, 3]"),
        ("role = \"helm\"", "role = 5"),
        ("hold = [\"sprint\"] }", "hold = 1 }"),
        ("[server]", "[[server]]"),
        ("name = \"heron\"", "name = [1]"),
        ("name = \"heron\"", "name = \"heron\"\nsettings = { missing = \"held\" }"),
        ("name = \"heron\"", "name = \"heron\"\nsettings = { missing = true }"),
        ("[server]", "[defaults]\nsend_evry = 2\n\n[server]"),
        ("[server]", "[defaults]\nlatency = \"20 ms\"\n\n[server]"),
        ("[server]", "[defaults]\nredundancy = \"adaptive\"\n\n[server]"),
        ("[server]", "[defaults]\nslew = \"50 %\"\n\n[server]"),
        ("[server]", "[defaults]\nsnap = \"-1 m\"\n\n[server]"),
        ("[server]", "[defaults]\nreturn_speed = \"0 m/s\"\n\n[server]"),
        ("[server]", "[defaults]\nease = \"9 s\"\n\n[server]"),
        ("[server]", "[defaults]\nview_late = \"60 %\"\n\n[server]"),
        ("[server]", "[defaults]\necho_leash = \"101 m\"\n\n[server]"),
    ];
    let told: Vec<String> = mistakes.iter().map(|(from, to)| mistake(from, to)).collect();
    for said in &told {
        assert!(!said.contains(|c: char| c.is_control() && c != '\n'), "raw in a terminal: {said:?}");
    }
    insta::assert_snapshot!(told.join("\n\n"));
}

/// What a course that is sound otherwise is warned about.
fn warned(from: &str, to: &str) -> Vec<String> {
    assert!(DEMO.contains(from), "`{from}` is not in the demo course");
    let course = Course::parse(DEMO_FILE, &DEMO.replacen(from, to, 1), &[]).unwrap_or_else(|e| panic!("{e}"));
    course.warnings.iter().map(ToString::to_string).collect()
}

#[test]
fn what_has_no_effect_is_warned_about_with_its_place() {
    let tune = |tables: &str| format!("{tables}\n[[cast]]\nname = \"plover\"");
    let plover = "[[cast]]\nname = \"plover\"";
    let walk = "[[tune]]\nrule = \"courier\"\nknown_to = \"SIDE\"\nset = { walk = \"5 m/s\" }\n";
    let side = |side: &str| walk.replace("SIDE", side);
    let cases = [
        ("east = \"7 m/s\", north = \"-4 m/s\" }", "up = \"0 m/s\" }".to_owned()),
        (plover, format!("[[event]]\nat = \"1 s\"\nfreeze = {{ who = \"server\", lasts = \"0 s\" }}\n\n{plover}")),
        (plover, format!("[[solid]]\nname = \"buoy\"\nat = [60, 0]\nsize = [2, 2]\nheight = \"1 m\"\n\n{plover}")),
        (plover, format!("[[zone]]\nname = \"far ice\"\nsurface = \"ice\"\nmin = [42, 0]\nmax = [50, 5]\n\n{plover}")),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [-27, 4], hold = [\"sprint\"] }".to_owned()),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [5, 2], press = [\"sprint\"] }".to_owned()),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [5, 2], hold = [\"crouch\"] }".to_owned()),
        ("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [5, 2], axis = { throttle = 0.5 } }".to_owned()),
        (plover, format!("[link.satellite]\nlatency = \"600 ms\"\n\n{plover}")),
        (plover, tune(&(side("all") + &side("all")))),
        (plover, tune(&(side("server") + &side("all")))),
        (plover, tune("[[tune]]\nrule = \"courier\"\nset = {}\n")),
        ("tick_rate = \"60 Hz\"", "tick_rate = \"60 Hz\"\nphysics = \"50 Hz\"".to_owned()),
        ("name = \"heron\"", "name = \"heron\"\narrangement = \"terminal\"\nfaults = [\"present\"]".to_owned()),
    ];
    let told: Vec<Vec<String>> = cases.iter().map(|(from, to)| warned(from, to)).collect();
    for ((_, to), told) in cases.iter().zip(&told) {
        assert_eq!(told.len(), 1, "{to}: {told:#?}");
    }
    insta::assert_snapshot!(told.concat().join("\n\n"));
    // What differs on purpose is no mistake: one side against the other, a one-sided solid on the way.
    assert_eq!(warned(plover, &tune(&(side("server") + &side("clients")))), [""; 0]);
    assert_eq!(warned(plover, &tune(&(side("all") + &side("clients")))), [""; 0]);
    assert_eq!(warned("{ at = [5, 2], hold = [\"sprint\"] }", "{ at = [-8.5, 0.2], hold = [\"sprint\"] }"), [""; 0]);
    assert_eq!(warned("name = \"heron\"", "name = \"heron\""), [""; 0]);
    assert_eq!(warned("name = \"heron\"", "name = \"heron\"\nfaults = [\"present\"]"), [""; 0]);
    assert_eq!(warned("tick_rate = \"60 Hz\"", "tick_rate = \"60 Hz\"\nphysics = \"240 Hz\""), [""; 0]);
}

/// A number of members of a rule with six counters, the first with other fields as given.
fn crowd(members: usize, fields: &str) -> Result<Course, CourseError> {
    let text = shipped_gait("courier.gait").expect("it ships");
    let counters: String = (0..7).map(|i| format!("  count{i} counter\n")).collect();
    let gait = text.replacen("  breath  number", &format!("{counters}{fields}  breath  number"), 1);
    let mut course =
        "format = 1\nname = \"crowd\"\ntick_rate = \"20 Hz\"\nworld = { min = [-50, -50], max = [50, 50] }\n"
            .to_owned();
    for i in 0..members {
        course += &format!(
            "[[cast]]\nname = \"m{i}\"\nrole = \"bot\"\ngait = \"x.gait\"\nspawn = [{}, {}]\nroute = [{{ at = [0, 40] }}, {{ at = [9, -40] }}]\n",
            (i % 10) * 4,
            (i / 10) * 4
        );
    }
    let read = |_: &str| Ok(gait.clone());
    Course::parse_with("crowd.course.toml", &course, Sources { own: &[], read: &read })
}

#[test]
fn a_cast_that_fits_no_snapshot_is_refused_when_it_is_read_and_the_largest_that_fits_runs() {
    let error = crowd(48, "").map(drop).unwrap_err();
    assert!(error.message.starts_with("expected a cast that fits a snapshot of 1200 bytes; "), "{error}");
    let help = error.help.clone().unwrap_or_default();
    assert!(help.contains("count0 32, count1 32") && help.contains("pos 54"), "{error}");
    let most = (1..48).rev().find(|n| crowd(*n, "").is_ok()).expect("some fit");
    assert!(most > 20, "{most}");
    let mut run = crate::Run::new(crowd(most, "").expect("it fits")).expect("it fits");
    run.advance(LabTime::from_secs(3.0));
    let longest = run.record().links().flat_map(|(_, _, rows)| rows.iter()).map(|m| m.bytes).max();
    // Room is kept for news, which here there is hardly any of.
    assert!(longest.is_some_and(|b| (1020..=1200).contains(&b)), "{longest:?}");
}

#[test]
fn mistakes_in_budgets_are_told_where_they_are() {
    let all = [
        ("corrections = \"0 /min\"", "corections = \"0 /min\""),
        ("corrections = \"0 /min\"", "corrections = \"0 ms\""),
        ("corrections = \"0 /min\"", "corrections = 3"),
        ("largest_jump = \"94 cm\"", "largest_jump = \"-2 cm\""),
        ("unexplained = 0", "unexplained = \"none\""),
        ("unexplained = 0", "unexplained = -1"),
        ("bytes_up = \"1.8 kB/s\"", "bytes_up = \"1.8 kbit/s\""),
        ("roughness = \"0.93 m/s\"", "roughness = \"0.93 m\""),
        ("[[budget]]\nwho = \"plover\"", "[[budget]]\nwho = \"lapwing\""),
        ("[[budget]]\nlink = \"fibre\"", "[[budget]]\nlink = \"fibreglass\""),
        ("[[budget]]\nlink = \"fibre\"", "[[budget]]\nlink = \"fibre\"\nwho = \"heron\""),
        ("[[budget]]\nwho = \"magpie\"", "[[budget]]\nwho = \"heron\""),
        ("[[budget]]\nwho = \"curlew\"", "[[budget]]\nwho = \"magpie\""),
        (
            "[[budget]]\nwho = \"magpie\"\n",
            "[[budget]]\nwho = \"plover\"\ncorrections = \"1 /min\"\n[[budget]]\nwho = \"magpie\"\n",
        ),
        ("[[budget]]\nwho = \"magpie\"\n", "[[budget]]\nwho = \"heron\"\n[[budget]]\nwho = \"magpie\"\n"),
        ("lasts = \"60 s\"", "lasts = \"60\""),
        ("lasts = \"60 s\"", "lasts = \"10 ms\""),
        ("lasts = \"60 s\"", "lasts = \"60 s\"\nseeds = 0"),
        ("lasts = \"60 s\"", "last = \"60 s\""),
    ];
    let said: Vec<String> = all.map(|(from, to)| mistake(from, to)).to_vec();
    insta::assert_snapshot!(said.join("\n\n"));
}

#[test]
fn defaults_hold_for_everybody_and_what_a_member_names_holds_before_them() {
    let text = DEMO.replacen("[defaults]", "[defaults]\nsend_every = 2\nmissing = \"rest\"\nsnapshot_every = 5", 1);
    let text = text.replacen("name = \"heron\"", "name = \"heron\"\nsettings = { send_every = 4 }", 1);
    let course = Course::parse(DEMO_FILE, &text, &[]).unwrap_or_else(|e| panic!("{e}"));
    for member in &course.cast {
        let sent = if member.name == "heron" { 4 } else { 2 };
        assert_eq!(member.knobs.settings.send_every, sent, "{}", member.name);
        assert_eq!(member.knobs.served.missing, velocitas_core::Missing::Rest, "{}", member.name);
        assert_eq!(member.knobs.served.snapshot_every, 5, "{}: the table is the narrower", member.name);
    }
}
