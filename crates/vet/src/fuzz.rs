//! What a fuzz target in `fuzz/` calls: an ordinary function, so that the usual build compiles and tests it.

use velocitas_lab::shipped_gait;
use velocitas_lab::track::Track;

use crate::walk;

/// Reads any bytes as an input track and runs what is one.
///
/// # Panics
/// When something in it panics.
pub fn track(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let gait = shipped_gait("courier.gait").ok().and_then(|text| velocitas_gait::compile(&text).gait);
    match (Track::parse(&text), gait) {
        (Ok(track), Some(gait)) => {
            let _ = walk(&track, &gait, None).map(|walked| walked.fastest(4)).map_err(|e| e.to_string());
            // What was read can be written, and says the same.
            assert_eq!(Track::parse(&track.to_text()).as_ref(), Ok(&track));
        }
        (Err(error), _) => drop(error.to_string()),
        (Ok(_), None) => {}
    }
}
