//! What all screens share: the run, the playhead, what is selected.
//!
//! The playhead is lab time. Live, it is the run's present and moves on with real time times the speed; looking back,
//! it stands, and driving and knobs do nothing but offer the way back.

pub(super) mod behind;
pub(super) mod branch;
pub(super) mod edits;
pub(super) mod kept;
pub(super) mod origin;
pub(super) mod page;
pub(super) mod prompt;
pub(super) mod recalling;
pub(super) mod typing;

use std::path::{Path, PathBuf};
use std::time::Duration;

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind};
use ratatui::layout::Size;
use velocitas_analysis::amiss::{Amiss, amiss};
use velocitas_analysis::moment::{Corrected, Figures, Moment};
use velocitas_core::vec3;
use velocitas_lab::Run;
use velocitas_lab::track::Recorder;
use velocitas_record::{Coming, KNOBS, LabTime, MachineId, MemberId, Part, Sudden};

use super::action::Action;
use super::driving::Driving;
use super::palette::Palette;
use crate::saved::CourseFile;
use behind::Behind;
use branch::{Branch, Offer};
use edits::Edits;
use kept::Kept;
use origin::Origin;
use page::RailView;
use prompt::Prompt;
use recalling::Recalling;
use typing::Typing;

/// Speeds, slow to fast.
const SPEEDS: [(f64, &str); 7] = [
    (0.125, "\u{d7}1/8"),
    (0.25, "\u{d7}1/4"),
    (0.5, "\u{d7}1/2"),
    (1.0, "\u{d7}1"),
    (2.0, "\u{d7}2"),
    (4.0, "\u{d7}4"),
    (8.0, "\u{d7}8"),
];
const USUAL_SPEED: usize = 3;

/// Virtual time advanced at once: small enough to stop a slice in time.
const GRAIN: LabTime = LabTime(4_000_000);
/// Real time that a pause of the program may make up for.
const MOST_CAUGHT_UP: f64 = 0.1;
/// Figures are of this window.
pub(super) const WINDOW: LabTime = LabTime(10_000_000_000);
/// How long a message stays.
const NOTICE: Duration = Duration::from_secs(5);
/// After so long it is said what did not stir.
const STILL_AFTER: LabTime = LabTime(20_000_000_000);

/// For how long a machine stands still at a key.
const FREEZE: LabTime = LabTime(1_000_000_000);
/// How hard a key pushes, in metres a second, and how far it puts somebody, in metres.
const PUSH: f32 = 7.0;
const FAR: f32 = 5.0;

/// What only the program around the stage can do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wish {
    Leave,
    Suspend,
    Edit(PathBuf),
    /// What a line that was typed asks the frame for.
    Act(Action),
}

/// Figures worked out when the moment has moved enough, not for every frame.
pub(super) struct Facts {
    at: LabTime,
    entity: MemberId,
    pub(super) figures: Figures,
    pub(super) corrected: Option<Corrected>,
    /// What is amiss with who is there.
    pub(super) amiss: Vec<Amiss>,
}

/// What all screens share.
pub struct Stage {
    pub(super) run: Run,
    /// Counts on when another run takes the place of it.
    pub(super) run_number: u32,
    pub(super) palette: Palette,
    /// The moment looked at; the run's present when live.
    pub(super) at: LabTime,
    pub(super) running: bool,
    speed: usize,
    /// Where virtual time should be by now.
    target: LabTime,
    /// Virtual seconds behind real time, when it is.
    behind: Option<f64>,
    pub(super) entity: MemberId,
    /// The thing of the world that is looked at instead of what came with that member.
    pub(super) thing: Option<usize>,
    pub(super) viewer: MemberId,
    pub(super) knob: usize,
    pub(super) panel: bool,
    pub(super) rail: RailView,
    /// The keyboard's hands; the member at the helm is the lab's to know.
    pub driving: Driving,
    /// What hands did at the helm since it is being kept.
    pub(super) hands_kept: Option<Recorder>,
    /// What is typed for the chosen knob, while it is.
    pub(super) typing: Option<Typing>,
    /// The line that is typed, while one is, and those that were done.
    pub(super) prompt: Option<Prompt>,
    pub(super) history: Vec<String>,
    notice: Option<(String, Duration)>,
    /// The files of the rules, and what becomes of saved edits.
    pub(super) edits: Edits,
    /// Whether it was said what did not stir.
    still_told: bool,
    pub(super) facts: Option<Facts>,
    /// What the run came from.
    pub(super) origin: Origin,
    /// A change that Enter would begin a branch with, and the branch there is.
    pub(super) offered: Option<Offer>,
    pub(super) branch: Option<Branch>,
    /// Another run that lies behind this one.
    pub(super) other: Option<Behind>,
    /// What the run has to do with takes.
    pub(super) kept: Kept,
    /// The run in its present, while a stretch that it let go is looked at in its place.
    pub(super) present: Option<Box<Run>>,
    /// Such a stretch, while it is run again.
    pub(super) recalling: Option<Recalling>,
}

impl Stage {
    /// A run at its beginning, running.
    pub fn new(run: Run, palette: Palette) -> Self {
        let mut stage = Self {
            run_number: 0,
            at: run.now(),
            target: run.now(),
            palette,
            running: true,
            speed: USUAL_SPEED,
            behind: None,
            entity: MemberId::new(0),
            thing: None,
            viewer: MemberId::new(0),
            knob: 0,
            panel: false,
            rail: RailView::default(),
            driving: Driving::default(),
            hands_kept: None,
            typing: None,
            prompt: None,
            history: Vec::new(),
            notice: None,
            still_told: false,
            edits: Edits::of(run.course(), None),
            facts: None,
            origin: Origin::default(),
            offered: None,
            branch: None,
            other: None,
            kept: Kept::default(),
            present: None,
            recalling: None,
            run,
        };
        stage.follow();
        stage
    }

    /// Whether the moment looked at is the run's present. While a take is read there is none.
    pub fn is_live(&self) -> bool {
        self.at == self.run.now() && self.present.is_none() && self.reading().is_none() && !self.run.is_over()
    }

    /// Whether the run is over, which is said: it can be looked at, and nothing of it can be run.
    pub(super) fn is_over(&mut self) -> bool {
        let is_over = self.run.is_over();
        if is_over {
            self.say("this is the record of a run that is over: it can be looked at, and nothing in it changed; C-r runs its course");
        }
        is_over
    }

    /// Whether a key does something now.
    pub(super) const fn offers(&self, action: Action) -> bool {
        !(action.needs_a_run() && self.run.is_over())
    }

    /// The moment looked at.
    pub fn moment(&self) -> Moment<'_> {
        self.run.moment(self.at)
    }

    /// The run.
    pub const fn run(&self) -> &Run {
        &self.run
    }

    pub(super) fn name(&self, member: MemberId) -> &str {
        &self.run.course()[member].name
    }

    /// Where a member sits.
    pub(super) fn machine(&self, member: MemberId) -> MachineId {
        self.run.course().machine(member)
    }

    pub(super) const fn speed_name(&self) -> &'static str {
        SPEEDS[self.speed].1
    }

    /// Virtual seconds behind real time, if it falls behind.
    pub(super) const fn behind(&self) -> Option<f64> {
        self.behind
    }

    pub(super) fn notice(&self) -> Option<&str> {
        self.notice.as_ref().map(|(text, _)| text.as_str())
    }

    /// Says something at the bottom for a while.
    pub(super) fn say(&mut self, text: impl Into<String>) {
        self.notice = Some((text.into(), NOTICE));
    }

    /// Says what the course probably does not mean.
    pub(super) fn tell_warnings(&mut self) {
        let warnings = &self.run.course().warnings;
        let Some(first) = warnings.first() else { return };
        let more = match warnings.len() - 1 {
            0 => String::new(),
            n => format!(" (and {n} more: velocitas vet tells)"),
        };
        self.say(format!("warning, line {}: {}{more}", first.line, first.message));
    }

    /// Says once, when it has run for long enough, what did not stir.
    fn tell_still(&mut self) {
        if self.still_told || self.run.now() < STILL_AFTER {
            return;
        }
        self.still_told = true;
        let still = self.run.still();
        let Some(first) = still.first() else { return };
        let more = match still.len() - 1 {
            0 => String::new(),
            n => format!(" (and {n} more: velocitas run tells)"),
        };
        self.say(format!("in {} s {first}: that proves nothing about it{more}", STILL_AFTER.secs()));
    }

    // --- time ---

    /// Real time has passed: what was said goes after a while. Says whether it went.
    pub(super) fn fade(&mut self, passed: Duration) -> bool {
        let Some((_, left)) = &mut self.notice else { return false };
        *left = left.saturating_sub(passed);
        let gone = left.is_zero();
        if gone {
            self.notice = None;
        }
        gone
    }

    /// Whether the world goes on by itself, so that every frame is another.
    pub(super) fn moves(&self) -> bool {
        self.running && self.is_live() || self.run.now() < self.target
    }

    /// Real time has passed: virtual time should follow.
    pub(super) fn wait_for(&mut self, passed: Duration) {
        if self.running && self.is_live() {
            self.drive(passed.as_secs_f32());
            let seconds = passed.as_secs_f64().min(MOST_CAUGHT_UP) * SPEEDS[self.speed].0;
            self.target = self.run.now().plus(LabTime::from_secs(seconds));
        } else {
            self.target = self.run.now();
        }
    }

    /// A grain of virtual time, if some is due. Says whether more is.
    pub(super) fn advance_a_little(&mut self) -> bool {
        if self.run.now() < self.target {
            self.run.advance(self.target.min(self.run.now().plus(GRAIN)));
            self.at = self.run.now();
            self.follow();
            self.tell_still();
        }
        self.run.now() < self.target
    }

    /// The slice was not enough.
    pub(super) fn fell_behind(&mut self) {
        self.behind = Some(self.target.minus(self.run.now()).secs());
    }

    /// It was.
    pub(super) fn caught_up(&mut self) {
        self.behind = None;
    }

    /// Runs the present on to a moment, whatever the speed: for tests and for stepping.
    pub fn advance_to(&mut self, to: LabTime) {
        self.run.advance(to);
        self.go(self.run.now());
    }

    /// Looks at somebody, and stops at a moment that was run to.
    pub(super) fn open_at(&mut self, at: Option<LabTime>, entity: Option<MemberId>) {
        if let Some(entity) = entity {
            (self.entity, self.viewer) = (entity, entity);
        }
        if let Some(at) = at {
            self.running = false;
            self.go(at);
        }
        self.refresh();
    }

    fn go(&mut self, at: LabTime) {
        self.offered = None;
        if self.fetch(at) {
            self.at = at.max(self.run.record().kept_from).min(self.run.now());
        }
        self.follow();
    }

    /// What moves with the moment: figures, camera, rail.
    pub(super) fn follow(&mut self) {
        let stale = self.facts.as_ref().is_none_or(|f| {
            let apart = f.at.0.abs_diff(self.at.0);
            f.entity != self.entity || apart > 100_000_000 || apart > 0 && !(self.running && self.is_live())
        });
        if stale {
            let moment = self.moment();
            let figures = moment.figures(self.machine(self.entity), WINDOW);
            let corrected = moment.last_correction(self.machine(self.entity));
            let amiss = amiss(self.run.record(), self.at);
            self.facts = Some(Facts { at: self.at, entity: self.entity, figures, corrected, amiss });
        }
        self.rail.follow(self.at, self.run.now());
        self.follow_branch();
    }

    pub(super) fn refresh(&mut self) {
        self.facts = None;
        self.follow();
    }

    /// The terminal has this size now.
    pub fn resized(&mut self, size: Size) {
        self.rail.fit(size.width);
    }

    // --- input ---

    /// Takes a key that a mode takes before it means anything else: a value or a line that is typed, the helm.
    /// `None` where none does.
    pub(super) fn key_in_a_mode(&mut self, key: &KeyEvent) -> Option<Option<Wish>> {
        let is_pressed = key.kind != KeyEventKind::Release;
        if self.typing.is_some() {
            if is_pressed {
                self.typing_key(key);
            }
            return Some(None);
        }
        if self.prompt.is_some() {
            return Some(if is_pressed { self.prompt_key(key) } else { None });
        }
        if self.driving.on {
            if key.code == KeyCode::Esc {
                self.leave_driving();
                return Some(None);
            }
            if self.drives() && self.driving.key(key) {
                self.drive(0.0);
                return Some(None);
            }
            // What the hands of this rule have no use for turns nothing else: not a link under who drives.
            let arrows = [KeyCode::Left, KeyCode::Right, KeyCode::Up, KeyCode::Down];
            if self.drives() && arrows.contains(&key.code) {
                return Some(None);
            }
        }
        None
    }

    /// Does what an action asks for that is the same on every screen.
    pub(super) fn act(&mut self, action: Action) {
        if action.needs_a_run() && self.is_over() {
            return;
        }
        match action {
            Action::Pause => {
                if self.is_live() {
                    self.running = !self.running;
                    self.refresh();
                } else {
                    self.offer();
                }
            }
            Action::TickBack | Action::TickOn => self.step(action == Action::TickOn),
            Action::SecondBack => self.look(self.at.minus(LabTime::from_secs(1.0))),
            Action::SecondOn => self.second_on(),
            Action::EventBack | Action::EventOn => self.event(action == Action::EventOn),
            Action::Beginning => self.look(self.whole().reach()),
            Action::Live if self.must_wait() => {}
            Action::Live => {
                self.go(self.whole().now());
                self.running = true;
            }
            Action::Resume => self.resume(),
            Action::Slower => self.speed = self.speed.saturating_sub(1),
            Action::Faster => self.speed = (self.speed + 1).min(SPEEDS.len() - 1),
            Action::Helm => self.helm(),
            Action::Track => self.record_hands(Path::new(".")),
            Action::Type => self.type_value(),
            Action::Freeze => self.happens(Sudden::Freeze(FREEZE), "stands still for a second"),
            Action::Push => {
                let (east, north) = self.ahead();
                self.happens(Sudden::Push(vec3(east * PUSH, north * PUSH, 0.0)), self.pushed(self.entity));
            }
            Action::Teleport => self.put_ahead(FAR),
            Action::Forget => self.forget_solid(),
            Action::Crash => self.comes_or_goes(self.entity, Coming::Crash),
            Action::Leave => self.comes_or_goes(self.entity, Coming::Leave),
            Action::Return => self.comes_or_goes(self.entity, Coming::Return),
            Action::Mend => self.mend(),
            Action::EntityOn | Action::EntityBack => {
                self.look_on(action == Action::EntityOn);
                self.refresh();
            }
            Action::ViewerOn | Action::ViewerBack => {
                self.viewer = self.next(self.viewer, action == Action::ViewerOn);
                self.refresh();
            }
            Action::KnobUp => self.knob = self.knob.checked_sub(1).unwrap_or(KNOBS.len() - 1),
            Action::KnobDown => self.knob = (self.knob + 1) % KNOBS.len(),
            Action::TurnDown | Action::TurnUp => self.turn(action == Action::TurnUp, false),
            Action::TurnDownAll | Action::TurnUpAll => self.turn(action == Action::TurnUpAll, true),
            Action::Panel => self.panel = !self.panel,
            Action::RailIn | Action::RailOut => {
                self.rail.zoom(action == Action::RailIn);
                self.follow();
            }
            Action::Prompt => self.open_prompt(),
            Action::KeepBranch | Action::DropBranch => self.end_branch(action == Action::KeepBranch),
            Action::Again => self.begin_again(),
            Action::Take => self.take_key(),
            // The rest is the frame's, or a screen's that is not shown.
            _ => {}
        }
    }

    fn next(&self, from: MemberId, on: bool) -> MemberId {
        let mut members = self.run.course().members();
        let count = members.len();
        let next = (from.index() + if on { 1 } else { count - 1 }) % count;
        members.nth(next).unwrap_or(from)
    }

    pub(super) fn look(&mut self, at: LabTime) {
        self.running = false;
        self.go(at);
    }

    fn second_on(&mut self) {
        let to = self.at.plus(LabTime::from_secs(1.0));
        self.running = false;
        if self.is_live() {
            self.run.advance(to);
        }
        self.go(to);
    }

    /// To the selected machine's next or previous tick; from the present on, the next one is made.
    fn step(&mut self, on: bool) {
        self.running = false;
        let machine = self.machine(self.entity);
        if on && self.is_live() {
            // A tick is due within its length plus a frame; a machine that stands still makes none.
            let limit = self.run.now().plus(LabTime::from_secs(0.5));
            let before = self.moment().tick(machine, Part::Client);
            while self.run.now() < limit {
                let next = self.run.now().plus(LabTime(1_000_000));
                self.run.advance(next);
                self.at = self.run.now();
                if self.moment().tick(machine, Part::Client) != before {
                    break;
                }
            }
            self.go(self.run.now());
        } else if let Some(at) = self.moment().step(machine, Part::Client, on) {
            self.go(at);
        } else if on {
            self.go(self.run.now());
        }
    }

    fn event(&mut self, on: bool) {
        match self.moment().event(self.machine(self.entity), on).filter(|at| *at >= self.run.record().kept_from) {
            Some(at) => self.look(at),
            None => {
                let name = self.name(self.entity);
                let said = match (on, self.is_live(), self.is_whole(on)) {
                    (true, true, _) => {
                        format!("this is the present: nothing has happened to {name} after it; p goes back to the last")
                    }
                    (true, _, true) => {
                        format!("nothing happened to {name} after this moment; p goes back, End to the present")
                    }
                    (false, _, true) => format!("nothing happened to {name} before this moment; n goes on to the next"),
                    (_, _, false) => format!("nothing happened to {name} there in this stretch; < and > go on"),
                };
                self.say(said);
            }
        }
    }

    pub(super) fn offer(&mut self) {
        self.say("looking back: End returns to live, Enter resumes from here");
    }

    fn resume(&mut self) {
        if self.must_wait() {
            return;
        }
        if let Some(offer) = self.offered.take() {
            return self.begin_branch(self.at, &offer.change);
        }
        if self.is_live() {
            self.running = true;
            return;
        }
        let gone = self.whole().now().minus(self.at).secs();
        let reloaded = |run: &Run| -> Vec<u8> {
            let kinds = run.record().changes.iter().filter_map(|c| match c.what {
                velocitas_record::Changed::Reloaded { kind, .. } => Some(kind),
                velocitas_record::Changed::Tuned { .. } | velocitas_record::Changed::Solid { .. } => None,
            });
            kinds.collect()
        };
        let before = reloaded(self.whole());
        self.branch = None;
        self.run.resume_from(self.at);
        self.forget_present();
        let at = self.at;
        self.hands_kept.iter_mut().for_each(|kept| kept.forget_after(at));
        // What was taken over of the course may be what was dropped.
        self.origin.file.iter_mut().for_each(CourseFile::forget);
        self.run_number += 1;
        let dropped = &before[reloaded(&self.run).len()..];
        // Edits that were dropped with the later part are what the files say all the same.
        let (known, sources) = (self.run.lab().server_known(), &mut self.edits.sources);
        for source in sources.iter_mut().filter(|s| s.trouble.is_none() && dropped.contains(&s.kind)) {
            source.take_again(known.kinds.motion(source.kind).schema());
        }
        self.release_all();
        self.running = true;
        self.refresh();
        self.say(format!("resumed from here: the {gone:.1} s after it were dropped"));
    }
}
