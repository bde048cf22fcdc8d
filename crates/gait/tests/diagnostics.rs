//! What is said about mistakes that people make, and that nothing said is ever a panic.

use proptest::prelude::*;
use velocitas_gait::{Report, Severity, compile};

const COURIER: &str = include_str!("../gaits/courier.gait");
const FERRY: &str = include_str!("../gaits/ferry.gait");

/// The courier with one thing changed, and what is said about it.
#[track_caller]
fn said(from: &str, to: &str) -> String {
    assert!(COURIER.contains(from), "`{from}` is not in the courier");
    let text = COURIER.replacen(from, to, 1);
    let compiled = compile(&text);
    assert!(!compiled.diagnostics.is_empty(), "`{to}` was accepted without a word");
    let errors = compiled.diagnostics.iter().any(|d| d.severity == Severity::Error);
    assert_eq!(compiled.gait.is_none(), errors, "a rule comes out exactly when nothing is wrong: `{to}`");
    Report { file: "courier.gait", text: &text, diagnostics: &compiled.diagnostics, coloured: false }.to_string()
}

/// Each is a mistake that somebody would make; what is said about it is looked at as text.
#[test]
fn mistakes_are_told_with_place_reason_and_remedy() {
    let mistakes = [
        // Units.
        ("surface.grip else steer) * dt)", "surface.grip else steer))"),
        ("vel.z - fall * dt", "vel.z - fall"),
        ("vel.z - fall * dt", "vel.z - fall * dt * dt"),
        ("breath + dt *", "breath +"),
        ("walk     4.2 m/s ", "walk     15 kmh "),
        ("walk     4.2 m/s ", "walk     4.2 meters "),
        ("fall     22 m/s^2 ", "fall     22 m/s "),
        ("fall     22 m/s^2 ", "fall     2 g "),
        ("agree 2 cm", "agree 2 s"),
        ("length(way) > 0.1", "length(way) > 0.1 m/s"),
        ("radius 0.35 m", "radius 0.35"),
        ("idle below 0.3 m/s", "idle below 0.3"),
        // Names.
        ("clamp(breath + dt", "clamp(breth + dt"),
        ("toward(vel.xy, want", "towards(vel.xy, want"),
        ("toward(vel.xy, want", "lerp(vel.xy, want"),
        ("dt * if pays", "delta_time * if hurries"),
        ("let way = turn", "let walk = turn"),
        ("let way = turn", "let m = turn"),
        ("sprint  held ", "sprnt  held "),
        ("let top", "let topp"),
        ("  recover  0.8        from 0 to 4", "  recover  0.8  from 0 to 4\n  unused 3 m"),
        ("facing = look", "facng = look"),
        // Types.
        ("turn(move, look)", "move * walk"),
        ("turn(move, look)", "turn(look, move)"),
        ("if grounded and hop {", "if grounded and breath {"),
        ("facing = look", "facing = 0.5"),
        ("vel.xy = toward", "vel = toward"),
        ("vel.z = max", "pos = max"),
        ("facing = look", "facing = look + look"),
        ("vel.z = max(", "vel.w = max("),
        ("else steer) * dt)", "else vel) * dt)"),
        // What may be assigned to.
        ("facing = look", "walk = 5 m/s"),
        ("facing = look", "hop = true"),
        ("facing = look", "top = 3 m/s"),
        ("facing = look", "dt = 0.1 s"),
        // Per tick instead of per second, and presses.
        ("facing = look", "vel = vel * 0.9\n  facing = look"),
        ("facing = look", "breath = breath - 0.02 s\n  facing = look"),
        ("kick vel.z = leap", "vel.z = leap"),
        ("if hurries then clamp", "if hop then clamp"),
        // The wall.
        ("move    stick    bits 7 ", "move    stick    bits 7\n  push    axis     bits 8  owned"),
        ("hop     press  ", "hop     press\n  speed   axis     bits 8  owned\n  # its owner says how fast"),
        // Syntax.
        ("if grounded and hop {", "if grounded && hop {"),
        ("if grounded and hop { kick vel.z = leap }", "if grounded and hop then kick vel.z = leap"),
        ("facing = look", "facing == look"),
        ("facing = look", "facing = look;"),
        ("facing = look", "breath += dt"),
        ("then -1 else recover", "then -1"),
        ("gait \"courier\"", "courier"),
        ("gait \"courier\"", "gait courier"),
        ("tune {", "tunes {"),
        ("looks {", "looks"),
        ("slide pos, vel", "slide pos"),
        ("hop     press ", "hop     button "),
        ("bits 7 ", "bits 99 "),
        ("hop     press ", "hop     press  key \"ctrl\" "),
        ("hop     press ", "hop     press  key \"q\" "),
        ("hop     press ", "hop     press  key \"g\" \"v\" "),
        ("hop     press ", "hop     press  key g "),
        ("hop     press ", "dash    press  key \"g\"\n  hop     press  key \"g\" "),
        ("bits 7 ", "bits 7  key \"w\" \"a\" \"s\" \"a\" "),
        ("blend curve", "blend smooth"),
        ("private", "secret"),
        ("hop     press ", "hop     press  dash press "),
        // Numbers without a unit.
        ("facing = look", "breath = 2\n  facing = look"),
        ("facing = look", "breath = if breath > 2 then 1 s else breath\n  facing = look"),
        // Limits, sizes, ranges.
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most vel.x"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most 7"),
        ("pace  vel.xy", "pace  vel"),
        ("pace  vel.xy  at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace  slack 4 %\n", ""),
        ("slack 4 %", "slack 400 %"),
        ("wire 1/256 ", "wire 1/1000000 "),
        ("from 0.5 m/s to 20 m/s", "from 5 m/s to 20 m/s"),
        ("pos     point  m ", "place   vector m "),
    ];
    assert!(mistakes.len() >= 40);
    let told: Vec<String> =
        mistakes.iter().map(|(from, to)| format!("# `{from}` -> `{to}`\n{}", said(from, to))).collect();
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn an_owned_number_that_reaches_the_velocity_is_named_with_the_way_it_took() {
    let text = COURIER
        .replace("hop     press ", "speed   axis  bits 8  owned\n  hop     press ")
        .replace("let top = walk *", "let fast = walk * (1 + speed)\n  let top = fast *");
    let compiled = compile(&text);
    let told = Report { file: "courier.gait", text: &text, diagnostics: &compiled.diagnostics, coloured: false };
    insta::assert_snapshot!(told.to_string());
    let bounded = text.replace("(1 + speed)", "(1 + clamp(speed, 0, 1))");
    assert!(compile(&bounded).gait.is_some());
}

#[test]
fn an_owned_value_is_followed_through_state_across_ticks() {
    let text = COURIER
        .replace("hop     press ", "aim     pitch  bits 8  owned\n  hop     press ")
        .replace("breath  number s ", "kept    number 1  wire 1/64  range 4\n  breath  number s ")
        .replace("facing = look", "vel.xy = vel.xy * kept\n  kept = aim\n  facing = look");
    let found = compile(&text).diagnostics;
    let way = found.iter().find(|d| d.code == "trust").map(|d| d.message.clone());
    assert!(way.as_deref().is_some_and(|m| m.contains("aim \u{2192} kept \u{2192} vel")), "{way:?}");
}

#[test]
fn coloured_and_serialised_reports_say_the_same() {
    let text = COURIER.replace("breath + dt", "breth + dt");
    let compiled = compile(&text);
    let report = |coloured| Report { file: "c.gait", text: &text, diagnostics: &compiled.diagnostics, coloured };
    let coloured = report(true).to_string();
    let mut plain = String::new();
    let mut inside = false;
    for c in coloured.chars() {
        match c {
            '\u{1b}' => inside = true,
            'm' if inside => inside = false,
            c if !inside => plain.push(c),
            _ => {}
        }
    }
    assert_eq!(plain, report(false).to_string());
    let json = serde_json::to_value(report(false).rows()).expect("it serialises");
    assert_eq!(json[0]["code"], "name");
    assert_eq!((json[0]["line"].as_u64(), json[0]["severity"].as_str()), (Some(42), Some("error")));
    assert!(json[0]["help"].as_str().is_some_and(|h| h.contains("breath")));
}

#[test]
fn deep_and_endless_texts_are_refused_without_running_out_of_anything() {
    let in_step = |inside: &str| format!("gait \"x\"\nstate {{ pos point m }}\nstep {{ {inside} }}");
    let texts = [
        in_step(&format!("let a = {}1{}", "(".repeat(100_000), ")".repeat(100_000))),
        in_step(&format!("let a = 1{}", " + 1".repeat(100_000))),
        in_step(&format!("let a = {}1", "-".repeat(100_000))),
        in_step(&format!("let a = {} true", "not ".repeat(100_000))),
        in_step(&"if true { ".repeat(50_000)),
        in_step(&"repeat 64 { ".repeat(1000)),
        in_step(&format!("let a = {}", "if true then ".repeat(50_000))),
        in_step(&format!("{}{{}}", "if true {} else ".repeat(50_000))),
        in_step(&format!("let a = x{}", ".x".repeat(100_000))),
        "a ".repeat(300_000),
        "{".repeat(200_000),
        "input { ".repeat(10_000),
        format!("gait \"{}\"", "x".repeat(100_000)),
    ];
    for text in &texts {
        assert!(compile(text).gait.is_none(), "{}", &text[..60.min(text.len())]);
    }
}

#[test]
fn a_program_that_would_take_too_long_is_refused() {
    let nested = "repeat 64 { repeat 64 { repeat 64 { vel = vel * 1 } } }";
    let text = COURIER.replace("slide pos, vel", &format!("slide pos, vel\n  {nested}"));
    let compiled = compile(&text);
    assert!(compiled.gait.is_none() && compiled.diagnostics.iter().any(|d| d.code == "size"), "{compiled:?}");
}

/// A text cut, with something put in: what half-written rules look like.
fn mangled(text: &str, from: usize, length: usize, junk: &str) -> String {
    let at = |i: usize| (i..).find(|&i| i >= text.len() || text.is_char_boundary(i)).unwrap_or(0).min(text.len());
    format!("{}{junk}{}", &text[..at(from)], &text[at(from + length)..])
}

/// Pieces of the language in any order.
fn word_soup() -> impl Strategy<Value = String> {
    let words = prop::sample::select(vec![
        "gait",
        "\"x\"",
        "input",
        "state",
        "tune",
        "body",
        "step",
        "looks",
        "limits",
        "hands",
        "turn",
        "apart",
        "{",
        "}",
        "(",
        ")",
        "let",
        "if",
        "then",
        "else",
        "repeat",
        "slide",
        "kick",
        "pos",
        "vel",
        "vel.xy",
        ".",
        ",",
        "=",
        "==",
        "<",
        "+",
        "-",
        "*",
        "/",
        "^",
        "%",
        "1",
        "0.5",
        "64",
        "m",
        "m/s",
        "s",
        "and",
        "not",
        "turn",
        "toward",
        "dt",
        "surface.grip",
        "point",
        "vector",
        "stick",
        "press",
        "held",
        "bits",
        "owned",
        "wire",
        "agree",
        "\n",
        "#",
        "\"",
        "at",
        "most",
        "slack",
    ]);
    prop::collection::vec(words, 0..120).prop_map(|w| w.join(" "))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn any_text_is_a_rule_or_diagnostics(text in "\\PC*") {
        let compiled = compile(&text);
        prop_assert!(compiled.gait.is_some() || !compiled.diagnostics.is_empty());
        let _ = Report { file: "x", text: &text, diagnostics: &compiled.diagnostics, coloured: true }.to_string();
    }

    #[test]
    fn a_mangled_rule_is_a_rule_or_diagnostics(
        from in 0usize..3000, length in 0usize..300, junk in "[ -~\\n\u{e9}]{0,20}", ferry: bool,
    ) {
        let text = mangled(if ferry { FERRY } else { COURIER }, from, length, &junk);
        let compiled = compile(&text);
        prop_assert!(compiled.gait.is_some() || !compiled.diagnostics.is_empty());
        let _ = Report { file: "x", text: &text, diagnostics: &compiled.diagnostics, coloured: false }.to_string();
    }

    #[test]
    fn any_words_of_the_language_are_a_rule_or_diagnostics(text in word_soup()) {
        let compiled = compile(&format!("{COURIER}\n{text}"));
        prop_assert!(compiled.gait.is_some() || !compiled.diagnostics.is_empty());
        let compiled = compile(&text);
        prop_assert!(compiled.gait.is_some() || !compiled.diagnostics.is_empty());
        let _ = velocitas_gait::classes(&text);
    }
}

/// What used to pass, or was said wrongly. Looked at as text.
#[test]
fn nonsense_does_not_pass_and_one_slip_has_one_cause() {
    let mistakes = [
        ("gait \"courier\"", "gait \"courier\" 17 junk {"),
        ("gait \"courier\"", "gait \"cou\u{1b}[31mrier\""),
        ("wire 1/256", "wire 1000000"),
        ("wire 1/256", "wire 1e-60 m"),
        ("wire 1/256", "range 1e-60 m"),
        ("agree 2 cm", "agree 2000 km"),
        ("from 0 to 4", "from 1 1 to 4"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most -3 m/s"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most 0 m/s"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most walk / 0"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most 1e30 m/s"),
        ("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1)) * surface.pace", "at most sqrt(0 - 4) * walk"),
        ("facing = look", "facing = look\n  grounded = true"),
        ("state {", "state {{"),
        ("state {", "state"),
        ("step {", "step {{"),
        ("step {", "step"),
        ("slide pos, vel", ""),
        ("facing = look", "facing = look\n  \u{7}\u{1b}[2J"),
    ];
    let all: Vec<String> = mistakes
        .iter()
        .map(|(from, to)| {
            let said = said(from, to);
            assert!(said.contains("error["), "`{to}` passes:\n{said}");
            let bad = said.chars().find(|c| c.is_control() && *c != '\n');
            assert_eq!(bad, None, "raw in a terminal: {said:?}");
            said
        })
        .collect();
    insta::assert_snapshot!(all.join("\n"));
}

#[test]
fn a_byte_order_mark_is_no_part_of_a_rule() {
    let marked = compile(&format!("\u{feff}{COURIER}"));
    assert!(marked.gait.is_some() && marked.diagnostics.is_empty(), "{:?}", marked.diagnostics);
}

#[test]
fn what_is_too_long_is_said_to_be_so_and_nothing_else() {
    let long = compile(&"# nothing\n".repeat(40_000));
    assert_eq!(long.diagnostics.len(), 1);
    assert!(long.diagnostics[0].message.contains("at most 262144 bytes; found 400000"));
}

#[test]
fn ten_thousand_warnings_or_mistakes_are_told_by_a_few_and_a_number() {
    let with = |statement: &dyn Fn(usize) -> String| {
        let many: String = (0..10_000).map(statement).collect();
        let text = COURIER.replacen("step {", &format!("step {{\n{many}"), 1);
        compile(&text).diagnostics
    };
    // So many values are an error as well.
    let warnings = with(&|i| format!("let x{i} = {i}\n"));
    let warnings: Vec<_> = warnings.into_iter().filter(|d| d.severity == Severity::Warning).collect();
    assert_eq!(warnings.len(), 51, "{:?}", &warnings[..1]);
    assert_eq!(warnings[50].message, "9950 more warnings not shown");
    let mistakes = with(&|i| format!("breath = y{i}\n"));
    assert_eq!(mistakes.last().map(|d| d.message.as_str()), Some("9950 more mistakes not shown"));
    assert_eq!(mistakes.len(), 51, "{:?}", &mistakes[48..]);
}
