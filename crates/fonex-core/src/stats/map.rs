//! Points on a plane that lie as far apart as is said.

/// Places for points whose distances are known, so that what is close lies close: classical scaling (Torgerson, "Multidimensional
/// scaling: I. Theory and method", 1952). `distances` is a symmetric square table. Cost: some hundred times its size.
#[must_use]
pub fn plane_of(distances: &[Vec<f64>]) -> Vec<(f64, f64)> {
    let n = distances.len();
    let squares = |i: usize, j: usize| distances[i][j] * distances[i][j];
    let means: Vec<f64> = (0..n).map(|i| (0..n).map(|j| squares(i, j)).sum::<f64>() / n as f64).collect();
    let mean = means.iter().sum::<f64>() / n.max(1) as f64;
    let mut table: Vec<Vec<f64>> =
        (0..n).map(|i| (0..n).map(|j| -0.5 * (squares(i, j) - means[i] - means[j] + mean)).collect()).collect();
    let axes = [0, 1].map(|_| {
        let (value, axis) = strongest(&table);
        for (row, a) in table.iter_mut().zip(&axis) {
            row.iter_mut().zip(&axis).for_each(|(cell, b)| *cell -= value * a * b);
        }
        axis.into_iter().map(|place| place * value.max(0.0).sqrt()).collect::<Vec<f64>>()
    });
    axes[0].iter().copied().zip(axes[1].iter().copied()).collect()
}

/// The largest eigenvalue with its direction, by repeated multiplication.
fn strongest(table: &[Vec<f64>]) -> (f64, Vec<f64>) {
    // Shifted so that the largest is also the largest in size.
    let shift = table.iter().map(|row| row.iter().map(|cell| cell.abs()).sum::<f64>()).fold(0.0, f64::max);
    let mut axis: Vec<f64> = (0..table.len()).map(|i| 1.0 + (i as f64 * 0.7).sin()).collect();
    let mut value = 0.0;
    for _ in 0..500 {
        let turned: Vec<f64> = table
            .iter()
            .zip(&axis)
            .map(|(row, own)| row.iter().zip(&axis).map(|(cell, place)| cell * place).sum::<f64>() + shift * own)
            .collect();
        let length = turned.iter().map(|place| place * place).sum::<f64>().sqrt();
        if length < 1e-12 {
            return (0.0, vec![0.0; table.len()]);
        }
        axis = turned.into_iter().map(|place| place / length).collect();
        value = length - shift;
    }
    (value, axis)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_of_a_plane_come_back_as_far_apart_as_they_were() {
        let points = [(0.0, 0.0), (3.0, 4.0), (-1.0, 2.0), (5.0, -2.0), (2.0, 2.5)];
        let apart = |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).hypot(a.1 - b.1);
        let table: Vec<Vec<f64>> = points.iter().map(|a| points.iter().map(|b| apart(*a, *b)).collect()).collect();
        let placed = plane_of(&table);
        for i in 0..points.len() {
            for j in 0..points.len() {
                assert!((apart(placed[i], placed[j]) - table[i][j]).abs() < 1e-6, "{placed:?}");
            }
        }
    }

    #[test]
    fn few_points_and_points_in_one_place_are_placed_too() {
        assert!(plane_of(&[]).is_empty());
        assert_eq!(plane_of(&[vec![0.0]]), [(0.0, 0.0)]);
        assert!(plane_of(&vec![vec![0.0; 4]; 4]).iter().all(|(x, y)| x.abs() + y.abs() < 1e-9));
        let two = plane_of(&[vec![0.0, 2.0], vec![2.0, 0.0]]);
        assert!(((two[0].0 - two[1].0).hypot(two[0].1 - two[1].1) - 2.0).abs() < 1e-9);
    }
}
