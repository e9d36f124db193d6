//! Columns of facts: rows of numbers, trial by trial, and their compact form in the store.

/// Rows of `width` numbers, some for each trial.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Column {
    pub(crate) width: usize,
    pub(crate) numbers: Vec<f64>,
    /// Where each trial's rows end, counted in rows.
    pub(crate) ends: Vec<u32>,
}

/// The narrowest form that holds every number of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Form {
    U8 = 0,
    U16 = 1,
    U32 = 2,
    F64 = 3,
}

impl Form {
    /// Bytes of a number.
    const fn bytes(self) -> usize {
        1 << self as u8
    }
}

impl Column {
    /// An empty column.
    #[must_use]
    pub const fn new(width: usize) -> Self {
        Self { width, numbers: Vec::new(), ends: Vec::new() }
    }

    /// Adds the rows of a trial.
    pub fn push(&mut self, rows: &[f64]) {
        debug_assert_eq!(rows.len() % self.width, 0);
        self.numbers.extend_from_slice(rows);
        self.ends.push((self.numbers.len() / self.width) as u32);
    }

    /// The rows of a trial, one after the other; none of a trial that it knows nothing of.
    #[must_use]
    pub fn rows(&self, trial: usize) -> &[f64] {
        if trial >= self.ends.len() {
            return &[];
        }
        let start = trial.checked_sub(1).map_or(0, |before| self.ends[before]) as usize;
        &self.numbers[start * self.width..self.ends[trial] as usize * self.width]
    }

    /// The rows of all trials, one after the other.
    #[must_use]
    pub fn all_rows(&self) -> &[f64] {
        &self.numbers
    }

    /// Trials it has rows of, also none.
    #[must_use]
    pub const fn trials(&self) -> usize {
        self.ends.len()
    }

    /// One column of chunks in their stored form, one behind the other. What is no chunk of this width is left out.
    pub(crate) fn of_chunks(width: usize, chunks: &[Vec<u8>]) -> Self {
        let mut whole = Self::new(width);
        let stored = || chunks.iter().filter_map(|bytes| Stored::of(bytes)).filter(|chunk| chunk.width == width);
        whole.ends.reserve_exact(stored().map(|chunk| chunk.trials).sum());
        whole.numbers.reserve_exact(stored().map(|chunk| chunk.numbers.len() / chunk.form.bytes()).sum());
        stored().for_each(|chunk| whole.extend(&chunk));
        whole
    }

    /// Adds the trials of a chunk.
    fn extend(&mut self, chunk: &Stored<'_>) {
        let rows = (self.numbers.len() / self.width) as u32;
        match chunk.ends() {
            None => self.ends.extend(rows + 1..=rows + chunk.trials as u32),
            Some(ends) => self.ends.extend(ends.map(|end| rows + end)),
        }
        let bytes = chunk.numbers;
        match chunk.form {
            Form::U8 => self.numbers.extend(bytes.iter().map(|byte| f64::from(*byte))),
            Form::U16 => self.numbers.extend(bytes.as_chunks().0.iter().map(|n| f64::from(u16::from_le_bytes(*n)))),
            Form::U32 => self.numbers.extend(bytes.as_chunks().0.iter().map(|n| f64::from(u32::from_le_bytes(*n)))),
            Form::F64 => self.numbers.extend(bytes.as_chunks().0.iter().map(|n| f64::from_le_bytes(*n))),
        }
    }

    /// The form in the store: the width, the trials, the rows of each trial where they are not one each, and the numbers in the
    /// narrowest form that holds them all.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        let one_each = self.ends.iter().enumerate().all(|(at, end)| *end as usize == at + 1);
        let form = self.numbers.iter().map(|number| form_of(*number)).max().unwrap_or(Form::U8);
        let mut bytes = vec![self.width as u8, u8::from(one_each), form as u8];
        bytes.extend((self.ends.len() as u32).to_le_bytes());
        if !one_each {
            self.ends.iter().for_each(|end| bytes.extend(end.to_le_bytes()));
        }
        for number in &self.numbers {
            match form {
                Form::U8 => bytes.push(*number as u8),
                Form::U16 => bytes.extend((*number as u16).to_le_bytes()),
                Form::U32 => bytes.extend((*number as u32).to_le_bytes()),
                Form::F64 => bytes.extend(number.to_le_bytes()),
            }
        }
        bytes
    }

    /// Reads what [`Self::encode`] wrote; none where it is something else.
    #[must_use]
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let chunk = Stored::of(bytes)?;
        let mut column = Self::new(chunk.width);
        column.extend(&chunk);
        Some(column)
    }
}

/// The parts of a column's stored form.
struct Stored<'b> {
    width: usize,
    trials: usize,
    /// None where every trial has one row.
    ends: Option<&'b [u8]>,
    form: Form,
    numbers: &'b [u8],
}

impl<'b> Stored<'b> {
    fn of(bytes: &'b [u8]) -> Option<Self> {
        let [width, one_each, form, rest @ ..] = bytes else { return None };
        // A row of no numbers would let seven bytes stand for four thousand million trials.
        (*width > 0).then_some(())?;
        let (count, rest) = rest.split_first_chunk::<4>()?;
        let trials = u32::from_le_bytes(*count) as usize;
        let form = [Form::U8, Form::U16, Form::U32, Form::F64].into_iter().find(|known| *known as u8 == *form)?;
        let (ends, numbers) = if *one_each == 1 {
            let bytes = trials.checked_mul(usize::from(*width))?.checked_mul(form.bytes())?;
            if rest.len() != bytes {
                return None;
            }
            (None, rest)
        } else {
            let (ends, numbers) = rest.split_at_checked(trials.checked_mul(4)?)?;
            (Some(ends), numbers)
        };
        let stored = Self { width: usize::from(*width), trials, ends, form, numbers };
        stored.goes_together().then_some(stored)
    }

    /// Where each trial's rows end, where trials differ in their number.
    fn ends(&self) -> Option<impl Iterator<Item = u32> + use<'b>> {
        Some(self.ends?.as_chunks().0.iter().map(|end| u32::from_le_bytes(*end)))
    }

    /// Whether the rows of the last trial end where the numbers do, and no trial's before those of the one before.
    fn goes_together(&self) -> bool {
        let Some(ends) = self.ends() else { return true };
        let (last, in_order) = ends.fold((0, true), |(last, in_order), end| (end, in_order && end >= last));
        let bytes =
            (last as usize).checked_mul(self.width).and_then(|numbers| numbers.checked_mul(self.form.bytes()));
        in_order && bytes == Some(self.numbers.len())
    }
}

fn form_of(number: f64) -> Form {
    if number.fract() != 0.0 || !(0.0..=f64::from(u32::MAX)).contains(&number) || number.is_sign_negative() {
        Form::F64
    } else if number <= 255.0 {
        Form::U8
    } else if number <= 65_535.0 {
        Form::U16
    } else {
        Form::U32
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_come_back_as_they_were() {
        for rows in [
            vec![vec![1.0, 2.0], vec![3.0, 255.0]],
            vec![vec![], vec![0.5, -1.0, 2.0, 70_000.0], vec![]],
            vec![vec![256.0, 1.0]],
            vec![vec![65_536.0, 4_294_967_295.0], vec![f64::INFINITY, -0.0]],
            vec![],
        ] {
            let mut column = Column::new(2);
            rows.iter().for_each(|row| column.push(row));
            let again = Column::decode(&column.encode()).unwrap();
            assert_eq!(again, column);
            assert!(rows.iter().enumerate().all(|(at, row)| again.rows(at) == row.as_slice()));
        }
    }

    #[test]
    fn what_is_no_column_is_refused() {
        let mut column = Column::new(2);
        column.push(&[1.0, 2.0]);
        column.push(&[]);
        let bytes = column.encode();
        for cut in 0..bytes.len() {
            assert_eq!(Column::decode(&bytes[..cut]), None, "{cut}");
        }
        assert_eq!(Column::decode(&[2, 1, 9, 0, 0, 0, 0]), None);
        // More trials than numbers.
        assert_eq!(Column::decode(&[1, 1, 0, 255, 255, 255, 255, 0]), None);
        assert_eq!(Column::decode(&[0, 1, 0, 255, 255, 255, 255]), None);
    }
}
