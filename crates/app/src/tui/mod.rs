//! x
use velocitas_lab::Course;
use crate::OpenError;
/// Options
#[derive(Default)]
pub struct Options { /// a
pub ascii: bool, /// s
pub seed: Option<u64> }
/// run
pub fn run(_c: Course, _o: Options) -> Result<(), OpenError> { Ok(()) }
