use roxmltree::Document;
use velocitas_analysis::lane::{Effort, LANES, Reader, Strip, Subject};
use velocitas_lab::{Course, Run};
use velocitas_record::{LabTime, MemberId};

use super::*;
use crate::{LaneView, Page, scope};

const HERON: MemberId = MemberId::new(1);
const PLOVER: MemberId = MemberId::new(0);

/// Every lane of plover on heron's screen over some seconds of the demo.
fn drawing() -> (Run, Drawing) {
    let mut run = Run::new(Course::demo()).expect("the demo fits");
    run.advance(LabTime::from_secs(14.0));
    let machine = |member| run.course().machine(member);
    let body = run.record().cast.body(machine(PLOVER), run.now());
    let subject = Subject { machine: machine(PLOVER), actor: body, viewer: machine(HERON) };
    let page = Page { first: 60, count: 100, slice: LabTime::from_millis(80.0), cursor: Some(LabTime::from_secs(8.5)) };
    let mut reader = Reader::default();
    let strips: Vec<Strip> = LANES
        .iter()
        .map(|lane| {
            let mut strip = Strip::new(lane, subject, page.slice);
            strip.read(&run, (page.first, page.count), Effort::WHOLE, &mut reader);
            strip
        })
        .collect();
    let lanes: Vec<LaneView<'_>> = strips
        .iter()
        .map(|strip| LaneView { strip, ghost: None, decades: strip.of().0.decades_from.is_some() })
        .collect();
    let drawing = scope(&run, PLOVER, HERON, page, &lanes);
    (run, drawing)
}

#[test]
fn a_page_says_what_it_is_of_in_text_and_every_plot_has_its_name_and_unit() {
    let (_, drawing) = drawing();
    let text = svg(&drawing, Theme::Dark);
    let page = Document::parse(&text).expect("it is sound");
    let words: Vec<&str> =
        page.descendants().filter(|n| n.has_tag_name("text")).filter_map(|n| n.text()).map(str::trim).collect();
    for wanted in ["Lampwick Quay: plover over time", "lab time"] {
        assert!(words.contains(&wanted), "{wanted} in {words:?}");
    }
    assert!(
        words.iter().any(|w| w.starts_with("Lampwick Quay, seed 40, 0:04.80 to 0:12.80 lab time; 60 ticks a second"))
    );
    assert!(words.iter().any(|w| w.starts_with("plover was set, at 0:12.80: latency, one way 40 ms")));
    for lane in &LANES {
        let name =
            words.iter().find(|w| w.starts_with(lane.name)).unwrap_or_else(|| panic!("{} is missing", lane.name));
        assert!(name.contains(lane.unit) && (!lane.is_seen || name.ends_with("plover on heron's screen")), "{name}");
        assert!(lane.series.iter().all(|s| words.contains(&s.name) || s.name.is_empty()), "{}", lane.name);
    }
    // Nothing is written beyond the page.
    let number = |n: &roxmltree::Node<'_, '_>, key| n.attribute(key).and_then(|v| v.parse::<f64>().ok());
    let size = page.root_element();
    let (width, height) = (number(&size, "width").expect("w"), number(&size, "height").expect("h"));
    for node in page.descendants().filter(|n| n.has_tag_name("text")) {
        let (x, y) = (number(&node, "x").expect("x"), number(&node, "y").expect("y"));
        let long = node.text().map_or(0, |t| t.trim().chars().count()) as f64 * 7.3;
        let left = match node.attribute("text-anchor") {
            Some("end") => x - long,
            Some("middle") => x - long / 2.0,
            _ => x,
        };
        assert!(left >= 0.0 && left + long <= width && y >= 0.0 && y <= height, "{:?} at {x}, {y}", node.text());
    }
}

#[test]
fn the_table_has_the_figures_that_are_drawn() {
    let (run, drawing) = drawing();
    let text = table(&drawing);
    let mut rows = csv::Reader::from_reader(text.as_bytes());
    let rows: Vec<csv::StringRecord> = rows.records().map(|row| row.expect("sound")).collect();
    let drawn: usize = drawing
        .plots
        .iter()
        .flat_map(|plot| &plot.marks)
        .map(|mark| if let Mark::Band { spans, .. } = mark { spans.len() } else { 1 })
        .sum();
    assert_eq!(rows.len(), drawn);
    // The greatest error of the table is that of the record.
    let of = |name: &str| {
        rows.iter().filter(move |row| row[0].starts_with(name) && &row[3] == "band").cloned().collect::<Vec<_>>()
    };
    let most = of("prediction error").iter().filter_map(|row| row[10].parse::<f64>().ok()).fold(0.0, f64::max);
    let machine = run.course().machine(PLOVER);
    let errors = velocitas_analysis::metrics::prediction_errors(
        run.record(),
        machine,
        LabTime::from_millis(4800.0),
        LabTime(12_800_000_000 - 1),
    );
    assert_eq!(most, errors.iter().map(|(_, error)| *error).fold(0.0, f64::max));
    // And a band of the page is where its figure says: the page is the same once its numbers are the same.
    assert_eq!(table(&self::drawing().1), text);
}

#[test]
fn pages_are_the_same_byte_for_byte_and_dark_and_light_differ() {
    let (_, drawing) = drawing();
    assert_eq!(svg(&drawing, Theme::Dark), svg(&self::drawing().1, Theme::Dark));
    let (dark, light) = (pdf(&drawing, Theme::Dark).expect("sound"), pdf(&drawing, Theme::Light).expect("sound"));
    assert_eq!(pdf(&self::drawing().1, Theme::Dark).expect("sound"), dark);
    assert_ne!(dark, light);
    assert!(dark.starts_with(b"%PDF-") && dark.windows(5).any(|w| w == b"%%EOF"));
    // Its letters are inside, and text can be copied: it is mapped to characters.
    // Each is as wide as the font has it: 1233 of 2048 parts.
    for wanted in [&b"/FontFile"[..], b"/ToUnicode", b"/DW 602\n", b"[0 65535 602.05"] {
        assert!(dark.windows(wanted.len()).any(|w| w == wanted), "{}", String::from_utf8_lossy(wanted));
    }
}

#[test]
fn every_kind_of_mark_is_drawn_and_in_the_table() {
    let point =
        |shape, x| Mark::Point { series: "p".into(), at: (x, 0.5), shape, tone: Tone::Owner, label: "here".into() };
    let shapes = [
        Shape::Dot,
        Shape::Diamond,
        Shape::Ring,
        Shape::Cross,
        Shape::Notch,
        Shape::Square,
        Shape::Hollow,
        Shape::Exclamation,
    ];
    let mut marks: Vec<Mark> = shapes.into_iter().enumerate().map(|(i, shape)| point(shape, i as f64 / 10.0)).collect();
    marks.push(Mark::Path {
        series: "w".into(),
        points: vec![(0.0, 0.0), (2.0, 2.0)],
        tone: Tone::Authority,
        dashed: true,
    });
    marks.push(Mark::Area { series: "a".into(), corners: vec![(0.5, 0.5), (2.0, 0.5), (2.0, 2.0)], tone: Tone::Wall });
    marks.push(Mark::Rule { series: "r".into(), at: 0.3, level: true, tone: Tone::Plain });
    // What is outside is not drawn, and is no reason to fall over.
    marks.push(point(Shape::Dot, 9.0));
    let plot = Plot {
        name: "plot".into(),
        across: Axis::linear("east", "m", (0.0, 1.0)),
        up: Axis::linear("north", "m", (0.0, 1.0)),
        marks,
        legend: vec![(Tone::Owner, "predicted".into())],
        weight: 2,
        even: true,
    };
    let drawing = Drawing { title: "t".into(), facts: Vec::new(), plots: vec![plot] };
    let text = svg(&drawing, Theme::Light);
    assert_eq!(text.matches("here").count(), shapes.len(), "the one outside is not among them");
    assert!(text.contains("<polygon") && text.contains("<circle") && text.contains("<polyline"));
    assert_eq!(table(&drawing).lines().count(), 1 + shapes.len() + 2 + 3 + 1 + 1);
}

#[test]
fn a_page_of_the_past_tells_the_settings_of_then() {
    let (mut run, _) = drawing();
    let span = (LabTime::from_secs(8.0), LabTime::from_secs(9.0));
    let before = crate::about(&run, PLOVER, span);
    let knob = velocitas_record::Knob::Latency;
    let value = velocitas_record::KnobValue::Number(250.0);
    run.command(velocitas_record::Command::Set { member: PLOVER, knob, value });
    run.advance(LabTime::from_secs(15.0));
    assert_eq!(crate::about(&run, PLOVER, span), before);
    assert!(crate::about(&run, PLOVER, (span.0, run.now()))[1].contains("latency, one way 250 ms"));
}
