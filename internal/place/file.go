package place

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"encoding/json"
)

// NotExport refuses a file that holds entries as export writes them, a line
// each, which would be taken for a damaged namespace.
func NotExport(dir, name string) error {
	path := filepath.Join(dir, name+".jsonl")
	first := firstLine(path)
	if first.Name == "" || first.Kind == "" || first.Format != "" || first.CRC != "" {
		return nil
	}
	return fmt.Errorf("%s is no namespace: it holds an entry a line, as export writes them; import reads it", path)
}

// NotNamespace refuses a file that is a namespace, or a board.
func NotNamespace(path, instead string) error {
	if !strings.HasPrefix(firstLine(path).Format, "small-pantry/") {
		return nil
	}
	return fmt.Errorf("%s is the file of a namespace; %s", path, instead)
}

type opening struct{ Name, Kind, Format, CRC string }

// firstLine gives what tells the files apart that end in .jsonl. Nothing is
// told of a pipe, whose first line would be gone, nor of a file that can't be
// read, which whoever opens it meets too.
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
