package drift

import "math"

// apartByChance is how often clean rows are told apart beyond the limit of separability,
// and leaning what share of it is asked of a symmetric tail for that.
const apartByChance, leaning = 0.001, 0.3

// JointShare is the share of clean periods that are over in any way at most, where
// so many features are judged at a share of accept each, and separability and pairs
// beside them: as if all were independent, which no dependence can exceed by more
// than the parts add up to.
func JointShare(accept float64, features int, separability, pairs bool) float64 {
	if pairs {
		features++
	}
	kept := math.Pow(1-accept, float64(features))
	if separability {
		kept *= 1 - apartByChance
	}
	return 1 - kept
}
