//! The text of binary values: hexadecimal digits, UUIDs (RFC 9562), addresses (RFC 4291, shown as RFC 5952 asks).

use std::fmt::Write as _;
use std::net::{Ipv4Addr, Ipv6Addr};

/// Two upper-case hexadecimal digits a byte.
pub fn format_hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        let _ = write!(text, "{byte:02X}");
        text
    })
}

/// Pairs of hexadecimal digits; `None` when the text is anything else.
pub fn parse_hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    let digit = |byte: u8| char::from(byte).to_digit(16).and_then(|value| u8::try_from(value).ok());
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    digits.chunks(2).map(|pair| Some(digit(pair[0])? << 4 | digit(pair[1])?)).collect()
}

/// The 36 characters of a UUID: lower-case digits in groups of 8, 4, 4, 4 and 12 (RFC 9562).
pub fn format_uuid(bytes: [u8; 16]) -> String {
    let hex = format_hex(&bytes).to_lowercase();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// 32 hexadecimal digits in groups of 8, 4, 4, 4 and 12.
pub fn parse_uuid(text: &str) -> Option<[u8; 16]> {
    let groups: Vec<&str> = text.split('-').collect();
    let lengths: Vec<usize> = groups.iter().map(|group| group.len()).collect();
    if lengths != [8, 4, 4, 4, 12] {
        return None;
    }
    parse_hex(&groups.concat())?.try_into().ok()
}

/// An IPv4 address is kept as its mapped IPv6 address and shown dotted.
pub fn format_address(bytes: [u8; 16]) -> String {
    let address = Ipv6Addr::from(bytes);
    address.to_ipv4_mapped().map_or_else(|| address.to_string(), |address| address.to_string())
}

/// The 16 bytes of an IP address; of one of version 4 those it is mapped to in version 6 (RFC 4291).
pub fn parse_address(text: &str) -> Option<[u8; 16]> {
    let mapped = text.parse::<Ipv4Addr>().map(|address| address.to_ipv6_mapped());
    mapped.or_else(|_| text.parse::<Ipv6Addr>()).ok().map(|address| address.octets())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_and_identifiers_have_one_text() {
        for (text, shown) in [
            ("192.0.2.7", Some("192.0.2.7")),
            ("::ffff:192.0.2.7", Some("192.0.2.7")),
            ("2001:DB8:0:0:0:0:0:1", Some("2001:db8::1")),
            ("2001:db8:0:1:1:1:1:1", Some("2001:db8:0:1:1:1:1:1")),
            ("::", Some("::")),
            ("192.0.2.256", None),
            ("192.0.2", None),
            ("", None),
        ] {
            assert_eq!(parse_address(text).map(format_address).as_deref(), shown, "{text}");
        }
        let text = "f81d4fae-7dec-11d0-a765-00a0c91e6bf6";
        assert_eq!(parse_uuid(&text.to_uppercase()).map(format_uuid).as_deref(), Some(text));
        for text in ["f81d4fae7dec11d0a76500a0c91e6bf6", "f81d4fae-7dec-11d0-a765-00a0c91e6bfg", ""] {
            assert_eq!(parse_uuid(text), None, "{text}");
        }
        assert_eq!(parse_hex("00fF"), Some(vec![0, 255]));
        assert_eq!((parse_hex("0"), parse_hex("0x")), (None, None));
    }
}
