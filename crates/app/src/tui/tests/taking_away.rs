//! What is seen is taken away.

use super::*;

#[test]
fn an_export_is_written_whole_and_named_after_what_is_seen() {
    let mut stage = after(10.0);
    let folder = tempfile::tempdir().expect("a folder");
    type_keys(&mut stage, "4");
    text(&mut stage, 160, 47);
    stage.export(folder.path(), Theme::Dark);
    let name = "velocitas-scope-plover-0m10s00";
    assert!(text(&mut stage, 160, 47).contains(&format!("wrote {name}.svg, .pdf and .csv")));
    let read = |ending: &str| std::fs::read(folder.path().join(format!("{name}.{ending}"))).expect("it was written");
    let svg = String::from_utf8(read("svg")).expect("text");
    assert!(svg.contains("Lampwick Quay: plover over time") && svg.ends_with("</svg>\n"));
    assert!(read("pdf").starts_with(b"%PDF-") && read("csv").starts_with(b"plot,across_unit,"));
    // Once more, and it is the same.
    stage.export(folder.path(), Theme::Dark);
    assert_eq!(String::from_utf8(read("svg")).expect("text"), svg);
    // Where it cannot be written, that is said and nothing else happens.
    stage.export(&folder.path().join("nowhere"), Theme::Light);
    assert!(text(&mut stage, 160, 47).contains("cannot write"));
}

#[test]
fn every_screen_can_be_taken_away() {
    let mut stage = after(8.9);
    let folder = tempfile::tempdir().expect("a folder");
    for (keys, name, wanted) in [
        ("1", "field-plover", "on plover&apos;s screen"),
        ("2", "rules-plover", "the rule courier"),
        ("3", "ladder-plover", "what crossed plover&apos;s link"),
        ("4", "scope-plover", "prediction error, m"),
    ] {
        type_keys(&mut stage, keys);
        text(&mut stage, 160, 47);
        stage.export(folder.path(), Theme::Light);
        let path = folder.path().join(format!("velocitas-{name}-0m08s90.svg"));
        let svg = std::fs::read_to_string(&path).unwrap_or_else(|why| panic!("{name}: {why}"));
        assert!(svg.contains(wanted), "{name} lacks {wanted}: {}", &svg[..900.min(svg.len())]);
    }
}
