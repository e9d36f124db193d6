//! Hash tables in files: as lists of pairs, since JSON has only texts for keys.

use std::hash::Hash;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::Table;

pub(crate) fn serialize<K: Serialize, V: Serialize, S: Serializer>(
    table: &Table<K, V>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(table)
}

pub(crate) fn deserialize<'d, K, V, D>(deserializer: D) -> Result<Table<K, V>, D::Error>
where
    K: Deserialize<'d> + Eq + Hash,
    V: Deserialize<'d>,
    D: Deserializer<'d>,
{
    Ok(Vec::<(K, V)>::deserialize(deserializer)?.into_iter().collect())
}
