//! What a frame costs to draw, and how many bytes it sends. `cargo bench -p velocitas-bench --bench screen`.

#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use std::hint::black_box;
use std::io::{self, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use criterion::{Criterion, criterion_group, criterion_main};
use ratatui::backend::CrosstermBackend;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::{Terminal, TerminalOptions, Viewport};
use velocitas::lab::{Course, Run};
use velocitas::tui::{Colours, Frame, Palette, draw};
use velocitas_record::LabTime;

const AREA: Rect = Rect { x: 0, y: 0, width: 160, height: 47 };

/// Counts what a terminal would be sent.
#[derive(Clone, Default)]
struct Counter(Arc<AtomicUsize>);

impl Write for Counter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.fetch_add(bytes.len(), Ordering::Relaxed);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Keys that show each screen, with what is looked at on it.
const SCREENS: [(&str, &str); 8] = [
    ("field", "1"),
    ("field from the south", "1d"),
    ("three fields", "1ss"),
    ("rules", "2"),
    ("ladder", "3"),
    ("scope", "4"),
    ("scope over ten minutes", "4{{{{{{{"),
    ("guard", "6"),
];

/// The demo with two more couriers, after ten minutes.
fn ten_minutes() -> Frame {
    let mut course = Course::demo();
    for name in ["sanderling", "knot"] {
        let mut member = course.cast[1].clone();
        member.name = name.to_owned();
        member.spawn.y -= 2.0 + course.cast.len() as f32;
        course.cast.push(member);
    }
    let mut frame = Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false));
    frame.resized(AREA.as_size());
    frame.advance_to(LabTime::from_secs(600.0));
    frame
}

fn terminal(counter: &Counter) -> Terminal<CrosstermBackend<Counter>> {
    let options = TerminalOptions { viewport: Viewport::Fixed(AREA) };
    Terminal::with_options(CrosstermBackend::new(counter.clone()), options).expect("a fixed viewport asks nothing")
}

/// Bytes of each of 300 frames, ten seconds from where it is.
fn bytes_per_frame(frame: &mut Frame) -> Vec<usize> {
    let counter = Counter::default();
    let mut terminal = terminal(&counter);
    let began = frame.run().now();
    let mut sizes: Vec<usize> = (1..=300u64)
        .map(|n| {
            frame.advance_to(began.plus(LabTime(n * 33_333_333)));
            let before = counter.0.load(Ordering::Relaxed);
            terminal.draw(|f| draw(frame, f.area(), f.buffer_mut())).expect("a counter never fails");
            counter.0.load(Ordering::Relaxed) - before
        })
        .collect();
    sizes.sort_unstable();
    sizes
}

/// Milliseconds of drawing alone, of each of 300 frames while the run goes on.
fn millis_per_frame(frame: &mut Frame) -> Vec<f64> {
    let began = frame.run().now();
    let mut took: Vec<f64> = (1..=300u64)
        .map(|n| {
            frame.advance_to(began.plus(LabTime(n * 33_333_333)));
            let mut buffer = Buffer::empty(AREA);
            let start = std::time::Instant::now();
            draw(frame, AREA, &mut buffer);
            black_box(buffer);
            start.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    took.sort_by(f64::total_cmp);
    took
}

fn screen(c: &mut Criterion) {
    let mut frame = ten_minutes();
    for (name, keys) in SCREENS {
        frame.press_keys(keys);
        // What a page needs is read over some frames.
        for _ in 0..600 {
            draw(&mut frame, AREA, &mut Buffer::empty(AREA));
        }
        let (sizes, took) = (bytes_per_frame(&mut frame), millis_per_frame(&mut frame));
        #[expect(clippy::print_stdout, reason = "a bench reports")]
        {
            println!(
                "{name}: {} bytes a frame in the median, 95 % below {}; {:.2} ms a frame in the median, 95 % below {:.2}",
                sizes[sizes.len() / 2],
                sizes[sizes.len() * 95 / 100],
                took[took.len() / 2],
                took[took.len() * 95 / 100],
            );
        }
        // The time of one at rest criterion gives too, where it is asked for by name.
        c.bench_function(&format!("draw {name} again, 160x47"), |b| {
            b.iter(|| {
                let mut buffer = Buffer::empty(AREA);
                draw(&mut frame, AREA, &mut buffer);
                black_box(buffer)
            });
        });
    }
}

criterion_group!(benches, screen);
criterion_main!(benches);
