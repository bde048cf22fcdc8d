//! What every screen does, driven by keys and read cell by cell: fixtures, and a file for each screen or concern.

mod branching;
mod courses;
mod field;
mod guard;
mod help;
mod keys;
mod knobs;
mod ladder;
mod looks;
mod members;
mod prices;
mod record;
mod rules;
mod scope;
mod screens;
mod taking_away;
mod time;
mod typing;

use std::time::Duration;

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::buffer::Buffer;
use ratatui::layout::{Rect, Size};
use velocitas_lab::{Course, Run};
use velocitas_record::{Happening, LabTime, MemberId, Part};

use velocitas_report::drawing::Theme;

use super::action::Action;
use super::stage::Wish;
use super::{Colours, Frame, Palette, draw};

/// The first of the cast.
const FIRST: MemberId = MemberId::new(0);

fn stage() -> Frame {
    with_palette(Palette::new(Colours::True, false))
}

fn with_palette(palette: Palette) -> Frame {
    Frame::new(Run::new(Course::demo()).expect("it fits"), palette)
}

/// The demo after `seconds`.
fn after(seconds: f64) -> Frame {
    let mut stage = stage();
    stage.advance_to(LabTime::from_secs(seconds));
    stage
}

fn drawn(stage: &mut Frame, width: u16, height: u16) -> Buffer {
    let area = Rect::new(0, 0, width, height);
    let mut buffer = Buffer::empty(area);
    draw(stage, area, &mut buffer);
    buffer
}

fn lines(buffer: &Buffer) -> Vec<String> {
    let row = |y| (0..buffer.area.width).map(|x| buffer[(x, y)].symbol().to_owned()).collect::<String>();
    (0..buffer.area.height).map(row).collect()
}

fn text(stage: &mut Frame, width: u16, height: u16) -> String {
    lines(&drawn(stage, width, height)).join("\n")
}

fn press(stage: &mut Frame, code: KeyCode) -> Option<Wish> {
    stage.key(&KeyEvent::new(code, KeyModifiers::NONE))
}

fn type_keys(stage: &mut Frame, keys: &str) {
    for c in keys.chars() {
        press(stage, KeyCode::Char(c));
    }
}

/// Real time passes.
fn pass(stage: &mut Frame, millis: u64) {
    for _ in 0..millis / 20 {
        stage.wait_for(Duration::from_millis(20));
        while stage.advance_a_little() {}
    }
}

fn comings() -> Frame {
    let course = Course::parse("comings", velocitas_lab::COMINGS, &[]).unwrap_or_else(|e| panic!("{e}"));
    Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false))
}

/// A stage on a course in a folder, so that it can be saved again.
fn on_file(text: &str) -> (tempfile::TempDir, std::path::PathBuf, Frame) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("quay.course.toml");
    std::fs::write(&path, text).expect("written");
    let run = Run::new(crate::files::course(Some(&path), &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    let mut stage = Frame::new(run, Palette::new(Colours::True, false));
    stage.resized(Size::new(160, 47));
    stage.read_from(Some(&path), &[]);
    stage.advance_to(LabTime::from_secs(4.0));
    (folder, path, stage)
}

/// Waits for what goes on beside the frames.
#[track_caller]
fn settle(stage: &mut Frame) {
    for _ in 0..3000 {
        stage.look_at_jobs();
        if !stage.works() {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("it never ends");
}

/// Looks at files until something was said, as the frames do.
#[track_caller]
fn until_said(stage: &mut Frame, what: &str) {
    for _ in 0..200 {
        stage.look_at_files(Duration::from_millis(200));
        if stage.notice().is_some_and(|said| said.contains(what)) {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("never said `{what}`, but {:?}", stage.notice());
}

const QUAY: &str = "format = 1\nname = \"quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
    [link.home]\nlatency = \"40 ms\"\n\
    [[cast]]\nname = \"teal\"\nrole = \"helm\"\nlink = \"home\"\nspawn = [0, 0]\nroute = [{ at = [9, 0] }, { at = [0, 0] }]\n\
    [[budget]]\nbytes_up = \"500 B/s\"\n";

/// Types a line behind `:` and enters it; returns what the last row says then.
fn line(stage: &mut Frame, text: &str) -> String {
    type_keys(stage, ":");
    type_keys(stage, text);
    press(stage, KeyCode::Enter);
    lines(&drawn(stage, 160, 47)).pop().unwrap_or_default()
}
