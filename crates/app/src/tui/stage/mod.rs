//! What all screens share: the run, the playhead, what is selected.
//!
//! The playhead is lab time. Live, it is the run's present and moves on with real time times the speed; looking back,
//! it stands, and driving and knobs do nothing but offer the way back.

pub(super) mod behind;
pub(super) mod branch;
pub(super) mod edits;
pub(super) mod helm;
pub(super) mod kept;
pub(super) mod knob_list;
pub(super) mod lines;
pub(super) mod notices;
pub(super) mod origin;
pub(super) mod pace;
pub(super) mod page;
pub(super) mod past;
pub(super) mod selected;

use std::path::{Path, PathBuf};

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind};
use ratatui::layout::Size;
use velocitas_analysis::amiss::{Amiss, amiss};
use velocitas_analysis::moment::{Corrected, Figures, Moment};
use velocitas_core::vec3;
use velocitas_lab::Run;
use velocitas_record::{Coming, LabTime, MachineId, MemberId, Sudden};

use super::action::Action;
use super::palette::Palette;

use behind::Behind;
use branch::Branching;
use edits::Edits;
use helm::Helm;
use kept::Kept;
use lines::Lines;
use notices::Notices;
use origin::Origin;
use pace::Pace;
use page::RailView;
use past::Past;
use selected::Selected;

/// Figures are of this window.
pub(super) const WINDOW: LabTime = LabTime(10_000_000_000);

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
    pub(super) pace: Pace,
    pub(super) selected: Selected,
    /// Whether the side panel is shown where there is little room.
    pub(super) panel: bool,
    pub(super) rail: RailView,
    /// The hands at the helm.
    pub helm: Helm,
    pub(super) lines: Lines,
    pub(super) notices: Notices,
    /// The files of the rules, and what becomes of saved edits.
    pub(super) edits: Edits,
    pub(super) facts: Option<Facts>,
    /// What the run came from.
    pub(super) origin: Origin,
    pub(super) branching: Branching,
    /// Another run that lies behind this one.
    pub(super) other: Option<Behind>,
    /// What the run has to do with takes.
    pub(super) kept: Kept,
    pub(super) past: Past,
}

impl Stage {
    /// A run at its beginning, running.
    pub fn new(run: Run, palette: Palette) -> Self {
        let mut stage = Self {
            run_number: 0,
            at: run.now(),
            palette,
            pace: Pace::from(run.now()),
            selected: Selected::default(),
            panel: false,
            rail: RailView::default(),
            helm: Helm::default(),
            lines: Lines::default(),
            notices: Notices::default(),
            edits: Edits::of(run.course(), None),
            facts: None,
            origin: Origin::default(),
            branching: Branching::default(),
            other: None,
            kept: Kept::default(),
            past: Past::default(),
            run,
        };
        stage.follow();
        stage
    }

    /// Whether the moment looked at is the run's present. While a take is read there is none.
    pub fn is_live(&self) -> bool {
        self.at == self.run.now() && self.past.present.is_none() && self.reading().is_none() && !self.run.is_over()
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

    /// What is said at the bottom.
    pub(super) fn notice(&self) -> Option<&str> {
        self.notices.said()
    }

    /// Says something at the bottom for a while.
    pub(super) fn say(&mut self, text: impl Into<String>) {
        self.notices.say(text.into());
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

    /// What moves with the moment: figures, camera, rail.
    pub(super) fn follow(&mut self) {
        let stale = self.facts.as_ref().is_none_or(|f| {
            let apart = f.at.0.abs_diff(self.at.0);
            f.entity != self.selected.entity
                || apart > 100_000_000
                || apart > 0 && !(self.pace.running && self.is_live())
        });
        if stale {
            let moment = self.moment();
            let figures = moment.figures(self.machine(self.selected.entity), WINDOW);
            let corrected = moment.last_correction(self.machine(self.selected.entity));
            let amiss = amiss(self.run.record(), self.at);
            self.facts = Some(Facts { at: self.at, entity: self.selected.entity, figures, corrected, amiss });
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
        if self.lines.typing.is_some() {
            if is_pressed {
                self.typing_key(key);
            }
            return Some(None);
        }
        if self.lines.prompt.is_some() {
            return Some(if is_pressed { self.prompt_key(key) } else { None });
        }
        if self.helm.driving.on {
            if key.code == KeyCode::Esc {
                self.leave_driving();
                return Some(None);
            }
            if self.drives() && self.helm.driving.key(key) {
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
        if self.act_on_time(action) || self.act_on_selection(action) {
            return;
        }
        match action {
            Action::Helm => self.helm(),
            Action::Track => self.record_hands(Path::new(".")),
            Action::Type => self.type_value(),
            Action::Freeze => self.happens(Sudden::Freeze(FREEZE), "stands still for a second"),
            Action::Push => {
                let (east, north) = self.ahead();
                self.happens(Sudden::Push(vec3(east * PUSH, north * PUSH, 0.0)), self.pushed(self.selected.entity));
            }
            Action::Teleport => self.put_ahead(FAR),
            Action::Forget => self.forget_solid(),
            Action::Crash => self.comes_or_goes(self.selected.entity, Coming::Crash),
            Action::Leave => self.comes_or_goes(self.selected.entity, Coming::Leave),
            Action::Return => self.comes_or_goes(self.selected.entity, Coming::Return),
            Action::Mend => self.mend(),
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

    /// Does what moves the playhead, or changes how fast it goes. Says whether the action is one of those.
    fn act_on_time(&mut self, action: Action) -> bool {
        match action {
            Action::Pause => {
                if self.is_live() {
                    self.pace.running = !self.pace.running;
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
                self.pace.running = true;
            }
            Action::Resume => self.resume(),
            Action::Slower | Action::Faster => self.pace.change_speed(action == Action::Faster),
            _ => return false,
        }
        true
    }

    /// Does what selects something else. Says whether the action is one of those.
    fn act_on_selection(&mut self, action: Action) -> bool {
        match action {
            Action::EntityOn | Action::EntityBack => {
                self.look_on(action == Action::EntityOn);
                self.refresh();
            }
            Action::ViewerOn | Action::ViewerBack => {
                self.selected.viewer = self.next(self.selected.viewer, action == Action::ViewerOn);
                self.refresh();
            }
            Action::KnobUp | Action::KnobDown => self.selected.knobs.go(action == Action::KnobDown),
            Action::Fold => self.selected.knobs.fold(),
            _ => return false,
        }
        true
    }

    fn next(&self, from: MemberId, on: bool) -> MemberId {
        let mut members = self.run.course().members();
        let count = members.len();
        let next = (from.index() + if on { 1 } else { count - 1 }) % count;
        members.nth(next).unwrap_or(from)
    }
}
