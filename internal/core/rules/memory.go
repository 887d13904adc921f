package rules

import (
	"fmt"
	"strconv"
	"strings"
)

// mostMemory is the most that rules may have of the memory to themselves, all together.
const mostMemory = 0.9

// ParseMemory reads a share of the memory, such as 25%.
func ParseMemory(text string) (float64, error) {
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || !percent || !(n > 0 && n <= 100*mostMemory) {
		return 0, fmt.Errorf(
			"%q: expected a share of the limit, such as 25%%, up to %s",
			text,
			FormatMemory(mostMemory),
		)
	}
	return n / 100, nil
}

// FormatMemory writes a share as ParseMemory reads it.
func FormatMemory(share float64) string { return strconv.FormatFloat(share*100, 'g', 6, 64) + "%" }
