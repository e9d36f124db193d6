//! From an id to the name of a file: readable, and another for every other id.

use crate::checksum;

/// Bytes of a name: file systems allow 255, and an ending and a counter still come behind.
const LONGEST: usize = 160;
/// Letters of the checksum behind a name that was cut.
const CHECKSUM: usize = 16;

/// A name for the file of an id. Letters, digits, spaces and `-_+.@,` stay; every other byte is written as `%` and its two
/// hexadecimal digits, and a point at the beginning too. A longer name is cut, and ends with `~` and the beginning of the
/// id's SHA-256.
#[must_use]
pub fn file_name_of(id: &str) -> String {
    let mut name = String::with_capacity(id.len());
    for (at, c) in id.char_indices() {
        let stays = c.is_alphanumeric() || "-_+@,".contains(c) || at > 0 && (c == '.' || c == ' ');
        if stays {
            name.push(c);
        } else {
            let mut bytes = [0; 4];
            c.encode_utf8(&mut bytes).bytes().for_each(|byte| name.push_str(&format!("%{byte:02X}")));
        }
    }
    if name.len() <= LONGEST {
        return name;
    }
    let mut end = LONGEST - CHECKSUM - 1;
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    format!("{}~{}", &name[..end], &checksum::of_bytes(id.as_bytes())[..CHECKSUM])
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_by_hand() {
        for (id, name) in [
            ("radio-014", "radio-014"),
            ("a/b", "a%2Fb"),
            ("a\\b", "a%5Cb"),
            ("a_b", "a_b"),
            ("a%2Fb", "a%252Fb"),
            ("../etc", "%2E.%2Fetc"),
            ("Höhe 7.wav", "Höhe 7.wav"),
            ("~", "%7E"),
            ("a:b*c?\n", "a%3Ab%2Ac%3F%0A"),
        ] {
            assert_eq!(file_name_of(id), name);
        }
        let (long, longer) = ("x".repeat(400), "x".repeat(401));
        assert!(file_name_of(&long).len() <= LONGEST && file_name_of(&long) != file_name_of(&longer));
        assert!(file_name_of(&"é/".repeat(300)).len() <= LONGEST);
    }

    proptest! {
        #[test]
        fn no_two_ids_share_a_name_and_none_leaves_its_folder(ids in prop::collection::vec("[a/\\\\._%~:é ]{0,6}|\\PC{0,300}", 1..40)) {
            let mut names: HashMap<String, &String> = HashMap::new();
            for id in &ids {
                let name = file_name_of(id);
                prop_assert!(!name.contains(['/', '\\', '\0']) && !name.starts_with('.') && name.len() <= LONGEST);
                if let Some(other) = names.insert(name, id) {
                    prop_assert_eq!(other, id);
                }
            }
        }
    }
}
