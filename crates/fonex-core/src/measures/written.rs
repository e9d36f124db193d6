//! How facts that were gathered stand in a file: by their ids and numbers, not by places in memory and bits.

/// A fact is written as its id.
pub(super) mod fact_by_id {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    use crate::measures::{Fact, all};

    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it")]
    pub(in crate::measures) fn serialize<S: Serializer>(
        fact: &&'static Fact,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(fact.id)
    }

    pub(in crate::measures) fn deserialize<'d, D: Deserializer<'d>>(
        deserializer: D,
    ) -> Result<&'static Fact, D::Error> {
        let id = String::deserialize(deserializer)?;
        let known = all().find(|measure| measure.fact.id == id).map(|measure| measure.fact);
        known.ok_or_else(|| D::Error::custom(format!("there is no fact \"{id}\"")))
    }
}

/// A row is written as the numbers it is, not as their bits.
pub(super) mod row_bits {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use crate::measures::gathered::WIDEST;

    pub(in crate::measures) fn serialize<S: Serializer>(
        row: &[u64; WIDEST],
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        row.map(f64::from_bits).serialize(serializer)
    }

    pub(in crate::measures) fn deserialize<'d, D: Deserializer<'d>>(
        deserializer: D,
    ) -> Result<[u64; WIDEST], D::Error> {
        Ok(<[f64; WIDEST]>::deserialize(deserializer)?.map(f64::to_bits))
    }
}

/// The first row likewise.
pub(super) mod first_row {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use crate::measures::gathered::WIDEST;

    type First = Option<([u64; WIDEST], Vec<f64>)>;

    pub(in crate::measures) fn serialize<S: Serializer>(first: &First, serializer: S) -> Result<S::Ok, S::Error> {
        first.as_ref().map(|(row, counts)| (row.map(f64::from_bits), counts)).serialize(serializer)
    }

    pub(in crate::measures) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<First, D::Error> {
        let first: Option<([f64; WIDEST], Vec<f64>)> = Deserialize::deserialize(deserializer)?;
        Ok(first.map(|(row, counts)| (row.map(f64::to_bits), counts)))
    }
}
