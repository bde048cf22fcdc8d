//! The table of all kinds of row.

use serde_json::{Map, Value};
use velocitas_core::{Fact, Restored};
use velocitas_record::ids::Part;
use velocitas_record::watch::Happening;

use super::changes::{COMMAND, FROZEN, GROUND, LINK, OFFENCE, PRESSED, PUSHED, PUT_ELSEWHERE, RULE, TRICK, command};
use super::comings::{
    BORN, CONNECTED, CRASHED, DENIED, ENDED, ENTERED, GONE, JOINED, LEAVES, LEFT, OBEYED, ORDERED, OUT, OWNER, OWNS,
    REFUSED, RULE_DIFFERS, SEEN, STARTED, UNHEARD,
};
use super::frames::{FRAME, RECEIVED, REFUSAL, TUNED};
use super::inputs::INPUT;
use super::judged::{CORRECTION, MEASURE, NOTE, PULLED_BACK, RESYNC, SETTLED, STEP_FAULT, VERDICT};
use super::kind::{RowContext, RowSpec};
use super::messages::{CLOCK, CLOCK_SET, DROPPED, HELD_BACK, MESSAGE, STREAM_FULL};
use super::page::Page;
use super::states::{AUTHORITY, DRAWN, ECHO, PREDICTED, REWRITTEN, WINDOW};

/// The row of something that happens seldom.
pub(super) fn happening(page: &mut Page, place: &RowContext<'_>, part: Part, what: &Happening) {
    match what {
        Happening::Fact(fact) => self::fact(page, place, part, fact),
        Happening::Pushed(entity, by) => page.put(&PUSHED, place, &(*entity, *by)),
        Happening::Link { up, knob, value } => page.put(&LINK, place, &(*up, *knob, *value)),
        Happening::Teleported(entity, to) => page.put(&PUT_ELSEWHERE, place, &(*entity, *to)),
        Happening::Frozen(lasts) => page.put(&FROZEN, place, lasts),
        Happening::Started => page.put(&STARTED, place, &()),
        Happening::Crashed => page.put(&CRASHED, place, &()),
        Happening::Leaves => page.put(&LEAVES, place, &()),
        Happening::Ordered(entity, to) => page.put(&ORDERED, place, &(*entity, *to)),
        Happening::Pressed(by) => page.put(&PRESSED, place, by),
        Happening::Trick { lasts } => page.put(&TRICK, place, lasts),
        Happening::Offence => page.put(&OFFENCE, place, &()),
        Happening::Command(done) => {
            let more = match command(place, done) {
                Value::Object(more) => more,
                _ => Map::new(),
            };
            page.put_with(&COMMAND, place, None, done, more.into_iter().map(|(key, value)| (key, value.into())));
        }
    }
}

fn fact(page: &mut Page, place: &RowContext<'_>, part: Part, fact: &Fact) {
    match fact {
        Fact::Corrected(c) if c.why == Restored::Settled => page.put(&SETTLED, place, c),
        Fact::Corrected(c) => page.put(&CORRECTION, place, c),
        Fact::Verdict(v) => page.put(&VERDICT, place, v),
        Fact::Note(v) => page.put(&NOTE, place, v),
        Fact::Resync { why, .. } => page.put(&RESYNC, place, why),
        Fact::PulledBack { entity, epoch, to, .. } => page.put(&PULLED_BACK, place, &(*entity, *epoch, *to)),
        Fact::Dropped { count, .. } => page.put(&DROPPED, place, &(*count, part)),
        Fact::StepFault { field, .. } => page.put(&STEP_FAULT, place, field),
        Fact::ClockSet { shift } => page.put(&CLOCK_SET, place, shift),
        Fact::HeldBack { up, number, waited_us, .. } => page.put(&HELD_BACK, place, &(*up, *number, *waited_us)),
        Fact::StreamFull { up, .. } => page.put(&STREAM_FULL, place, up),
        Fact::Joined { .. } => page.put(&JOINED, place, &()),
        Fact::Denied(why) => page.put(&DENIED, place, why),
        Fact::Unheard => page.put(&UNHEARD, place, &()),
        Fact::Out(why) => page.put(&OUT, place, why),
        Fact::Entered { entity, .. } => page.put(&ENTERED, place, entity),
        Fact::Left { entity, .. } => page.put(&LEFT, place, entity),
        Fact::Owns { entity, owns, .. } => page.put(&OWNS, place, &(*entity, *owns)),
        Fact::Connected { peer, again, .. } => page.put(&CONNECTED, place, &(*peer, *again)),
        Fact::Ended { peer, why, .. } => page.put(&ENDED, place, &(*peer, *why)),
        Fact::Refused { why, .. } => page.put(&REFUSED, place, why),
        Fact::RuleDiffers { kind, .. } => page.put(&RULE_DIFFERS, place, kind),
        Fact::Born { entity, .. } => page.put(&BORN, place, entity),
        Fact::Gone { entity, .. } => page.put(&GONE, place, entity),
        Fact::Owner { entity, player, owns, .. } => page.put(&OWNER, place, &(*entity, *player, *owns)),
        Fact::Obeyed { entity, .. } => page.put(&OBEYED, place, entity),
        // Kept in tables of their own, or not at all.
        Fact::Clock(_) | Fact::Received { .. } | Fact::Agreed { .. } => {}
    }
}

/// Every kind of row but the first and the last, as people read of it.
pub fn row_kinds() -> Vec<RowSpec> {
    vec![
        AUTHORITY.spec(),
        ECHO.spec(),
        PREDICTED.spec(),
        REWRITTEN.spec(),
        RECEIVED.spec(),
        FRAME.spec(),
        DRAWN.spec(),
        MESSAGE.spec(),
        INPUT.spec(),
        WINDOW.spec(),
        CORRECTION.spec(),
        SETTLED.spec(),
        VERDICT.spec(),
        NOTE.spec(),
        PULLED_BACK.spec(),
        RESYNC.spec(),
        CLOCK.spec(),
        MEASURE.spec(),
        DROPPED.spec(),
        CLOCK_SET.spec(),
        HELD_BACK.spec(),
        STREAM_FULL.spec(),
        STARTED.spec(),
        JOINED.spec(),
        DENIED.spec(),
        REFUSAL.spec(),
        UNHEARD.spec(),
        OUT.spec(),
        LEAVES.spec(),
        CRASHED.spec(),
        CONNECTED.spec(),
        REFUSED.spec(),
        RULE_DIFFERS.spec(),
        ENDED.spec(),
        BORN.spec(),
        GONE.spec(),
        OWNER.spec(),
        OBEYED.spec(),
        ORDERED.spec(),
        ENTERED.spec(),
        SEEN.spec(),
        LEFT.spec(),
        OWNS.spec(),
        PRESSED.spec(),
        PUSHED.spec(),
        PUT_ELSEWHERE.spec(),
        LINK.spec(),
        FROZEN.spec(),
        TRICK.spec(),
        OFFENCE.spec(),
        STEP_FAULT.spec(),
        RULE.spec(),
        TUNED.spec(),
        GROUND.spec(),
        COMMAND.spec(),
    ]
}
