package place

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"encoding/json"
)

// NotExport refuses a file of exported entries, one per line, which would look like a damaged
// namespace.
func NotExport(dir, name string) error {
	path := filepath.Join(dir, name+".jsonl")
	first := firstLine(path)
	if first.Name == "" || first.Kind == "" || first.Format != "" || first.CRC != "" {
		return nil
	}
	return fmt.Errorf("%s is not a namespace: it holds one entry per line, as export writes them; use import to read it", path)
}

// NotNamespace refuses a file that is a namespace or a board.
func NotNamespace(path, instead string) error {
	if !strings.HasPrefix(firstLine(path).Format, "small-pantry/") {
		return nil
	}
	return fmt.Errorf("%s is the file of a namespace; %s", path, instead)
}

type opening struct{ Name, Kind, Format, CRC string }

// firstLine returns the part that distinguishes files that end in .jsonl. It returns nothing for a
// pipe, whose first line would be consumed, and for a file that can't be read, since the caller
// gets that error too.
func firstLine(path string) (first opening) {
	if !isFile(path) {
		return first
	}
	f, err := os.Open(path)
	if err != nil {
		return first
	}
	defer f.Close()
	if json.NewDecoder(f).Decode(&first) != nil {
		return opening{}
	}
	return first
}
