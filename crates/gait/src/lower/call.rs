//! What each function of the language is lowered to.

use super::{Lower, Result};
use crate::builtin::Builtin;
use crate::program::Code;
use crate::tree::Node;
use crate::types::Type;

impl Lower<'_> {
    pub(super) fn call(&mut self, builtin: Builtin, arguments: &[Node], to: u8) -> Result<()> {
        let ty = arguments[0].ty;
        let width = ty.width() as u8;
        if builtin == Builtin::Vec {
            for (i, argument) in arguments.iter().enumerate() {
                self.value(argument, to + i as u8)?;
            }
            return Ok(());
        }
        let mut at = [0u8; 3];
        for (place, argument) in at.iter_mut().zip(arguments) {
            *place = self.operand(argument)?;
        }
        let [a, b, c] = at;
        let by_width = |one, two, three| match width {
            1 => one,
            2 => two,
            _ => three,
        };
        match builtin {
            Builtin::Turn if ty == Type::Stick => self.op(Code::TurnStick, to, a, b, 0),
            Builtin::Turn => self.op(Code::Turn2, to, a, b, 0),
            Builtin::Toward if ty == Type::Bearing => self.op(Code::TowardAngle, to, a, b, c),
            Builtin::Toward => self.op(by_width(Code::Toward, Code::Toward2, Code::Toward3), to, a, b, c),
            Builtin::Decay => {
                let left = self.take(1)?;
                self.op(Code::Fade, left, b, self.dt, 0);
                for i in 0..width {
                    self.op(Code::Mul, to + i, a + i, left, 0);
                }
            }
            Builtin::Mix if ty == Type::Bearing => self.op(Code::MixAngle, to, a, b, c),
            Builtin::Mix => {
                for i in 0..width {
                    self.op(Code::Mix, to + i, a + i, b + i, c);
                }
            }
            Builtin::Shorten => self.op(by_width(Code::Shorten2, Code::Shorten2, Code::Shorten3), to, a, b, 0),
            Builtin::Length => {
                self.op(by_width(Code::Dot2, Code::Dot2, Code::Dot3), to, a, a, 0);
                self.op(Code::Sqrt, to, to, 0, 0);
            }
            Builtin::Unit => self.op(by_width(Code::Unit2, Code::Unit2, Code::Unit3), to, a, 0, 0),
            Builtin::Dot => self.op(by_width(Code::Dot2, Code::Dot2, Code::Dot3), to, a, b, 0),
            Builtin::Cross => self.op(by_width(Code::Cross2, Code::Cross2, Code::Cross3), to, a, b, 0),
            Builtin::Bearing => self.op(Code::Atan2, to, a + 1, a, 0),
            Builtin::Ahead => {
                let always = self.constant(1.0)?;
                // The direction as three numbers, level ones with no height.
                let way = self.take(3)?;
                for i in 0..width {
                    self.op(Code::Move, way + i, a + i, 0, 0);
                }
                if width == 2 {
                    self.op(Code::Sub, way + 2, always, always, 0);
                }
                self.op(Code::Ahead, to, way, b, self.state[0]);
                self.op(Code::More, 0, 0, 0, self.condition.unwrap_or(always));
            }
            Builtin::Clamp => self.op(Code::Clamp, to, a, b, c),
            Builtin::Min => self.op(Code::Min, to, a, b, 0),
            Builtin::Max => self.op(Code::Max, to, a, b, 0),
            Builtin::Abs => self.op(Code::Abs, to, a, 0, 0),
            Builtin::Sign => self.op(Code::Sign, to, a, 0, 0),
            Builtin::Sin => self.op(Code::Sin, to, a, 0, 0),
            Builtin::Cos => self.op(Code::Cos, to, a, 0, 0),
            Builtin::Atan2 => self.op(Code::Atan2, to, a, b, 0),
            Builtin::Sqrt => self.op(Code::Sqrt, to, a, 0, 0),
            Builtin::Wrap => self.op(Code::Wrap, to, a, 0, 0),
            Builtin::Heading => self.op(Code::Heading, to, a, 0, 0),
            Builtin::Vec => {}
        }
        Ok(())
    }
}
