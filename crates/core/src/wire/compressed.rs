//! What follows the head of a snapshot, through a general-purpose compressor (DEFLATE, RFC 1951).

use miniz_oxide::deflate::compress_to_vec;
use miniz_oxide::inflate::TINFLStatus;
use miniz_oxide::inflate::core::{DecompressorOxide, decompress as inflate, inflate_flags};

use super::error::WireError;

/// How hard it tries, of ten: the most that is worth it.
const LEVEL: u8 = 9;
/// Compresses; `None` where it does not become shorter by it.
pub(super) fn compress(bytes: &[u8]) -> Option<Vec<u8>> {
    Some(compress_to_vec(bytes, LEVEL)).filter(|compressed| compressed.len() < bytes.len())
}

/// Gives back what was compressed, at most so many bytes.
pub(super) fn decompress(bytes: &[u8], most: usize) -> Result<Vec<u8>, WireError> {
    let mut whole = vec![0; most];
    let flags = inflate_flags::TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
    let (status, read, written) = inflate(&mut DecompressorOxide::new(), bytes, &mut whole, 0, flags);
    if status != TINFLStatus::Done || read < bytes.len() {
        return Err(WireError::Compressed);
    }
    whole.truncate(written);
    Ok(whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_compressed_comes_back_and_never_as_more_than_is_allowed() {
        let bytes: Vec<u8> = (0..600u32).map(|n| (n % 7) as u8).collect();
        let compressed = compress(&bytes).expect("it is like itself");
        assert!(compressed.len() < 40);
        assert_eq!(decompress(&compressed, 600), Ok(bytes));
        assert_eq!(decompress(&compressed, 599), Err(WireError::Compressed));
        assert_eq!(decompress(&compressed[..9], 600), Err(WireError::Compressed), "cut");
        assert_eq!(decompress(&[&compressed[..], &[0]].concat(), 600), Err(WireError::Compressed), "more than it says");
        assert_eq!(compress(&[7, 3, 250]), None, "it would be longer");
    }
}
