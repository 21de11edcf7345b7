//! Checksums in the headers of a Parquet file's pages: the `parquet` crate checks them when it reads, and does not write them. A header
//! is a struct in Thrift's compact protocol, of which this module knows as much as is needed to find its end:
//!
//! ```text
//! field   header byte: difference of its number from the one before (4 bits), type (4 bits)
//! 1 type                     i32
//! 2 uncompressed_page_size   i32
//! 3 compressed_page_size     i32      how many bytes follow the header
//! 4 crc                      i32      CRC-32 of these bytes: what is put in here
//! 5 to 8                     structs, of which one is there
//! 0                          the end
//! ```

/// A page of a column chunk: where it was, and where it is with a checksum in its header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct MovedPage {
    pub(super) from: usize,
    pub(super) to: usize,
    /// Its bytes with its header.
    pub(super) length: usize,
}

/// The pages of a column chunk with checksums in their headers; `None` when the bytes are no pages without them. O(bytes).
pub(super) fn with_checksums(chunk: &[u8]) -> Option<(Vec<u8>, Vec<MovedPage>)> {
    let mut out = Vec::with_capacity(chunk.len() + chunk.len() / 1024 + 64);
    let mut pages = Vec::new();
    let mut at = 0;
    while at < chunk.len() {
        let header = Header::read(chunk, at)?;
        let data = chunk.get(header.end..header.end.checked_add(header.data)?)?;
        let to = out.len();
        out.extend_from_slice(&chunk[at..header.crc_place]);
        // Number 4, one past the field before, an i32.
        out.push(0x15);
        let crc = crc32fast::hash(data).cast_signed();
        put_varint(&mut out, ((crc << 1) ^ (crc >> 31)).cast_unsigned());
        // The next field comes one after this one less.
        out.push(chunk[header.crc_place].checked_sub(0x10)?);
        out.extend_from_slice(&chunk[header.crc_place + 1..header.end]);
        out.extend_from_slice(data);
        pages.push(MovedPage { from: at, to, length: out.len() - to });
        at = header.end + data.len();
    }
    Some((out, pages))
}

struct Header {
    /// Where the checksum's field goes: the byte that begins the next field.
    crc_place: usize,
    end: usize,
    /// Bytes that follow.
    data: usize,
}

impl Header {
    fn read(bytes: &[u8], at: usize) -> Option<Self> {
        let mut reader = Reader { bytes, at };
        let (mut number, mut data) = (0, 0);
        let mut crc_place = None;
        loop {
            let place = reader.at;
            let head = reader.byte()?;
            if head == 0 {
                return Some(Self { crc_place: crc_place?, end: reader.at, data });
            }
            let step = head >> 4;
            // Headers have no field so far from the one before that its number is written out.
            number += if step == 0 { return None } else { step };
            if number > 3 && crc_place.is_none() {
                crc_place = Some(place).filter(|_| number > 4);
                crc_place?;
            }
            if number == 3 {
                let size = reader.varint()?;
                data = usize::try_from(size >> 1).ok().filter(|_| size & 1 == 0)?;
            } else {
                reader.skip(head & 0xf, 0)?;
            }
        }
    }
}

struct Reader<'b> {
    bytes: &'b [u8],
    at: usize,
}

impl Reader<'_> {
    fn byte(&mut self) -> Option<u8> {
        let byte = *self.bytes.get(self.at)?;
        self.at += 1;
        Some(byte)
    }

    fn varint(&mut self) -> Option<u64> {
        let mut value = 0;
        for shift in (0..64).step_by(7) {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << shift;
            if byte < 0x80 {
                return Some(value);
            }
        }
        None
    }

    /// Passes over a value of a type.
    fn skip(&mut self, of_type: u8, depth: u8) -> Option<()> {
        if depth > 8 {
            return None;
        }
        match of_type {
            // TRUE and FALSE are in the header of their field.
            1 | 2 => {}
            3 => self.at += 1,
            4..=6 => drop(self.varint()?),
            7 => self.at += 8,
            8 => self.at = self.at.checked_add(usize::try_from(self.varint()?).ok()?)?,
            9 | 10 => {
                let head = self.byte()?;
                let count = if head >> 4 == 15 { self.varint()? } else { u64::from(head >> 4) };
                for _ in 0..count {
                    self.skip(head & 0xf, depth + 1)?;
                }
            }
            12 => loop {
                let head = self.byte()?;
                if head == 0 {
                    break;
                }
                if head >> 4 == 0 {
                    self.varint()?;
                }
                self.skip(head & 0xf, depth + 1)?;
            },
            _ => return None,
        }
        Some(())
    }
}

fn put_varint(out: &mut Vec<u8>, mut value: u32) {
    while value >= 0x80 {
        out.push(value.to_le_bytes()[0] | 0x80);
        value >>= 7;
    }
    out.push(value.to_le_bytes()[0]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_checksum_goes_between_the_third_field_and_the_next() {
        // type 0, uncompressed 3, compressed 3, data_page_header { num_values 1, encoding 0 }, and three bytes.
        let page = [0x15, 0, 0x15, 6, 0x15, 6, 0x2c, 0x15, 2, 0x15, 0, 0, 0, b'a', b'b', b'c'];
        let (made, pages) = with_checksums(&[page, page].concat()).unwrap();
        // CRC-32 of "abc" is 0x352441C2; zigzag doubles it.
        let crc = [0x15, 0x84, 0x87, 0xa2, 0xd2, 0x06];
        let one = [&page[..6], &crc, &[0x1c], &page[7..]].concat();
        assert_eq!(made, [one.clone(), one.clone()].concat());
        assert_eq!(pages[1], MovedPage { from: 16, to: one.len(), length: one.len() });
        // Cut short, or with a checksum already: no pages that it knows.
        assert_eq!((with_checksums(&page[..9]), with_checksums(&page[..14]), with_checksums(&one)), (None, None, None));
    }
}
