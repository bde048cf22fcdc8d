//! The functions of the language, in one table: the checker, the compiler, the reference and completion read it.

use crate::types::Type;
use crate::unit::Dimension;

/// A function of the language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Builtin {
    Turn,
    Toward,
    Decay,
    Clamp,
    Shorten,
    Length,
    Unit,
    Dot,
    Cross,
    Mix,
    Min,
    Max,
    Abs,
    Sign,
    Sin,
    Cos,
    Atan2,
    Sqrt,
    Wrap,
    Bearing,
    Heading,
    Vec,
    Ahead,
}

/// An entry of the table.
#[derive(Clone, Copy, Debug)]
pub struct BuiltinSpec {
    pub(crate) builtin: Builtin,
    /// As written.
    pub name: &'static str,
    /// Its arguments, for people.
    pub takes: &'static str,
    /// What it gives.
    pub help: &'static str,
}

const fn spec(builtin: Builtin, name: &'static str, takes: &'static str, help: &'static str) -> BuiltinSpec {
    BuiltinSpec { builtin, name, takes, help }
}

/// The table.
pub const BUILTINS: [BuiltinSpec; 23] = [
    spec(
        Builtin::Turn,
        "turn",
        "stick, bearing",
        "the stick as a direction in the world, never longer than 1; a level vector is turned counter-clockwise",
    ),
    spec(
        Builtin::Toward,
        "toward",
        "from, to, most",
        "from moved towards to by at most most; bearings take the shorter arc",
    ),
    spec(
        Builtin::Decay,
        "decay",
        "x, rate",
        "x after one tick of fading at rate (1/s): x times e to the minus rate dt, the same at every tick rate",
    ),
    spec(Builtin::Clamp, "clamp", "x, low, high", "x held within low and high; a number that is none becomes low"),
    spec(Builtin::Shorten, "shorten", "v, most", "v, or v cut to the length most"),
    spec(Builtin::Length, "length", "v", "the length of a vector"),
    spec(Builtin::Unit, "unit", "v", "the direction of a vector, of length 1; of the zero vector: zero"),
    spec(Builtin::Dot, "dot", "a, b", "the scalar product"),
    spec(Builtin::Cross, "cross", "a, b", "the vector product; of level vectors its upward component, a number"),
    spec(Builtin::Mix, "mix", "a, b, t", "from a (t = 0) to b (t = 1), not beyond"),
    spec(Builtin::Min, "min", "a, b", "the smaller"),
    spec(Builtin::Max, "max", "a, b", "the larger"),
    spec(Builtin::Abs, "abs", "x", "x without its sign"),
    spec(Builtin::Sign, "sign", "x", "-1, 0 or 1"),
    spec(Builtin::Sin, "sin", "angle", "sine of a bearing or a number in radians"),
    spec(Builtin::Cos, "cos", "angle", "cosine of a bearing or a number in radians"),
    spec(Builtin::Atan2, "atan2", "y, x", "the bearing of the direction (x, y)"),
    spec(Builtin::Sqrt, "sqrt", "x", "square root; of a negative number: 0"),
    spec(Builtin::Wrap, "wrap", "angle", "a number in radians as a bearing"),
    spec(Builtin::Bearing, "bearing", "v", "the bearing of a level vector; of the zero vector: 0"),
    spec(Builtin::Heading, "heading", "bearing", "the level direction of a bearing, of length 1"),
    spec(Builtin::Vec, "vec", "x, y or x, y, z", "a vector of two or three numbers of one unit"),
    spec(
        Builtin::Ahead,
        "ahead",
        "direction, reach",
        "how far the body can go that way before it meets something, at most reach; in metres",
    ),
];

/// The entry of a name.
pub(crate) fn builtin_named(name: &str) -> Option<&'static BuiltinSpec> {
    BUILTINS.iter().find(|b| b.name == name)
}

/// What a call does not fit, and why.
pub(crate) struct Misfit {
    /// Which argument, if it is one.
    pub(crate) argument: Option<usize>,
    pub(crate) expected: String,
}

fn misfit<T>(argument: usize, expected: impl Into<String>) -> Result<T, Misfit> {
    Err(Misfit { argument: Some(argument), expected: expected.into() })
}

const NONE: Dimension = Dimension::NONE;

fn number(types: &[Type], i: usize) -> Result<Dimension, Misfit> {
    match types[i] {
        Type::Number(d) => Ok(d),
        _ => misfit(i, "a number"),
    }
}

fn same_number(types: &[Type], i: usize, d: Dimension) -> Result<(), Misfit> {
    if types[i] == Type::Number(d) { Ok(()) } else { misfit(i, Type::Number(d).words()) }
}

fn angle(types: &[Type], i: usize) -> Result<(), Misfit> {
    match types[i] {
        Type::Bearing | Type::Number(NONE) => Ok(()),
        _ => misfit(i, "a bearing or a number in radians"),
    }
}

/// The dimension of a vector of either size.
fn vector(types: &[Type], i: usize) -> Result<Dimension, Misfit> {
    match types[i] {
        Type::Level(d) | Type::Vector(d) => Ok(d),
        _ => misfit(i, "a vector"),
    }
}

/// A number or a vector, with its dimension.
fn value(types: &[Type], i: usize) -> Result<Dimension, Misfit> {
    match types[i] {
        Type::Number(d) | Type::Level(d) | Type::Vector(d) => Ok(d),
        _ => misfit(i, "a number or a vector"),
    }
}

fn same(types: &[Type], i: usize, ty: Type) -> Result<(), Misfit> {
    if types[i] == ty { Ok(()) } else { misfit(i, ty.words()) }
}

/// The dimension of numbers that all have the same.
fn alike(types: &[Type]) -> Result<Dimension, Misfit> {
    let d = number(types, 0)?;
    (1..types.len()).try_for_each(|i| same_number(types, i, d))?;
    Ok(d)
}

/// The dimension of the product of two vectors of one size.
fn product(types: &[Type]) -> Result<Dimension, Misfit> {
    let (a, b) = (vector(types, 0)?, vector(types, 1)?);
    same(types, 1, with(types[0], b))?;
    Ok(a.times(b))
}

fn turn(types: &[Type]) -> Result<Type, Misfit> {
    let ty = match types[0] {
        Type::Stick => Type::Level(NONE),
        Type::Level(d) => Type::Level(d),
        _ => return misfit(0, "a stick or a level vector"),
    };
    angle(types, 1)?;
    Ok(ty)
}

fn toward(types: &[Type]) -> Result<Type, Misfit> {
    let d = if types[0] == Type::Bearing { NONE } else { value(types, 0)? };
    same(types, 1, types[0])?;
    same_number(types, 2, d)?;
    Ok(types[0])
}

fn mix(types: &[Type]) -> Result<Type, Misfit> {
    if !matches!(types[0], Type::Bearing | Type::Point) {
        value(types, 0)?;
    }
    same(types, 1, types[0])?;
    same_number(types, 2, NONE)?;
    Ok(types[0])
}

const fn with(ty: Type, d: Dimension) -> Type {
    match ty {
        Type::Level(_) => Type::Level(d),
        Type::Vector(_) => Type::Vector(d),
        _ => Type::Number(d),
    }
}

impl Builtin {
    /// How many arguments it takes.
    pub(crate) const fn arity(self) -> std::ops::RangeInclusive<usize> {
        match self {
            Self::Length
            | Self::Unit
            | Self::Abs
            | Self::Sign
            | Self::Sin
            | Self::Cos
            | Self::Sqrt
            | Self::Wrap
            | Self::Bearing
            | Self::Heading => 1..=1,
            Self::Toward | Self::Clamp | Self::Mix => 3..=3,
            Self::Vec => 2..=3,
            _ => 2..=2,
        }
    }

    /// What it gives for arguments of these types, whose number is right.
    pub(crate) fn result(self, types: &[Type]) -> Result<Type, Misfit> {
        if types.contains(&Type::Wrong) {
            return Ok(Type::Wrong);
        }
        Ok(match self {
            Self::Turn => turn(types)?,
            Self::Toward => toward(types)?,
            Self::Decay => {
                value(types, 0)?;
                same_number(types, 1, Dimension::RATE)?;
                types[0]
            }
            Self::Clamp | Self::Min | Self::Max => Type::Number(alike(types)?),
            Self::Shorten => {
                let d = vector(types, 0)?;
                same_number(types, 1, d)?;
                types[0]
            }
            Self::Length => Type::Number(vector(types, 0)?),
            Self::Unit => {
                vector(types, 0)?;
                with(types[0], NONE)
            }
            Self::Dot => Type::Number(product(types)?),
            Self::Cross => match (product(types)?, types[0]) {
                (d, Type::Vector(_)) => Type::Vector(d),
                (d, _) => Type::Number(d),
            },
            Self::Mix => mix(types)?,
            Self::Abs => Type::Number(number(types, 0)?),
            Self::Sign => {
                number(types, 0)?;
                Type::Number(NONE)
            }
            Self::Sin | Self::Cos => {
                angle(types, 0)?;
                Type::Number(NONE)
            }
            Self::Atan2 => {
                alike(types)?;
                Type::Bearing
            }
            Self::Sqrt => {
                let d = number(types, 0)?;
                let Some(root) = d.root() else { return misfit(0, "a number whose unit is a square") };
                Type::Number(root)
            }
            Self::Wrap => {
                angle(types, 0)?;
                Type::Bearing
            }
            Self::Bearing => match types[0] {
                Type::Level(_) => Type::Bearing,
                _ => return misfit(0, "a level vector, such as `vel.xy`"),
            },
            Self::Heading => {
                angle(types, 0)?;
                Type::Level(NONE)
            }
            Self::Vec if types.len() == 2 => Type::Level(alike(types)?),
            Self::Vec => Type::Vector(alike(types)?),
            Self::Ahead => {
                vector(types, 0)?;
                same_number(types, 1, Dimension::LENGTH)?;
                Type::Number(Dimension::LENGTH)
            }
        })
    }
}
