//! What a frame costs to draw, and how many bytes it sends. `cargo bench -p velocitas --bench screen`.

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
use velocitas::lab::{Course, LabTime, Run};
use velocitas::tui::{Colours, Frame, Palette, draw};

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

fn stage() -> Frame {
    Frame::new(Run::new(Course::demo()).expect("the demo fits"), Palette::new(Colours::True, false))
}

/// Bytes of each of 1800 frames, a minute of the demo.
fn bytes_per_frame() -> Vec<usize> {
    let counter = Counter::default();
    let options = TerminalOptions { viewport: Viewport::Fixed(AREA) };
    let mut terminal =
        Terminal::with_options(CrosstermBackend::new(counter.clone()), options).expect("a fixed viewport asks nothing");
    let mut stage = stage();
    let mut sizes: Vec<usize> = (1..=1800u64)
        .map(|frame| {
            stage.advance_to(LabTime(frame * 33_333_333));
            let before = counter.0.load(Ordering::Relaxed);
            terminal.draw(|f| draw(&mut stage, f.area(), f.buffer_mut())).expect("a counter never fails");
            counter.0.load(Ordering::Relaxed) - before
        })
        .collect();
    sizes.sort_unstable();
    sizes
}

fn screen(c: &mut Criterion) {
    let sizes = bytes_per_frame();
    #[expect(clippy::print_stdout, reason = "a bench reports")]
    {
        println!(
            "bytes a frame over a minute of the demo: median {}, 95 % below {}, most {}",
            sizes[sizes.len() / 2],
            sizes[sizes.len() * 95 / 100],
            sizes[sizes.len() - 1]
        );
    }
    let mut stage = stage();
    stage.advance_to(LabTime::from_secs(20.0));
    c.bench_function("draw a frame of 160x47", |b| {
        b.iter(|| {
            let mut buffer = Buffer::empty(AREA);
            draw(&mut stage, AREA, &mut buffer);
            black_box(buffer)
        });
    });
}

criterion_group!(benches, screen);
criterion_main!(benches);
