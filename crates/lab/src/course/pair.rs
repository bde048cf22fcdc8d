//! Places as a course writes them: lists of numbers.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer};

/// Two finite numbers, and no third.
#[derive(Clone, Copy)]
pub(super) struct Pair(pub(super) [f32; 2]);

impl<'de> Deserialize<'de> for Pair {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let all = Vec::<f32>::deserialize(from)?;
        let [x, y] = all[..] else {
            return Err(D::Error::custom(format!("expected two numbers such as [0, 2]; found {}", all.len())));
        };
        if x.is_finite() && y.is_finite() {
            Ok(Self([x, y]))
        } else {
            Err(D::Error::custom(format!("expected two numbers such as [0, 2]; found [{x}, {y}]")))
        }
    }
}

/// Two finite numbers, or three: a place, and how high.
#[derive(Clone, Copy)]
pub(super) struct PositionValue(pub(super) [f32; 2], pub(super) f32);

impl<'de> Deserialize<'de> for PositionValue {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let all = Vec::<f32>::deserialize(from)?;
        let expected = "expected two numbers such as [0, 2], or three with a height";
        match all[..] {
            [_, _] | [_, _, _] if all.iter().all(|x| x.is_finite()) => {
                Ok(Self([all[0], all[1]], all.get(2).copied().unwrap_or(0.0)))
            }
            [_, _] | [_, _, _] => Err(D::Error::custom(format!("{expected}; found {all:?}"))),
            _ => Err(D::Error::custom(format!("{expected}; found {}", all.len()))),
        }
    }
}
