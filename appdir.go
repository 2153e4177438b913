package pantry

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
)

// AppDir gives the directory where an app keeps its namespaces, and makes it,
// with mode 0700. On Android and iOS the platform gives each app a directory
// of its own: pass that (an absolute path, on Android what Context.getFilesDir
// returns). On a desktop pass the app's name, as CheckNamespace allows it: the
// directory lies where the system keeps its users' configuration, see os.UserConfigDir.
//
// The errors are ErrInvalid for a bad name, and for a name on Android, and the
// file system's own.
func AppDir(app string) (string, error) {
	dir := app
	if !filepath.IsAbs(app) {
		if err := CheckNamespace(app); err != nil {
			return "", err
		}
		if runtime.GOOS == "android" {
			return "", refuse.As(ErrInvalid, "on Android, AppDir takes the path that Context.getFilesDir returns, not the name %s", scan.Quote(app))
		}
		config, err := os.UserConfigDir()
		if err != nil {
			return "", fmt.Errorf("find the directory of the app %s: %w", app, err)
		}
		dir = filepath.Join(config, app)
	}
	if err := journal.MakeDir(journal.OS, dir); err != nil {
		return "", fmt.Errorf("make the directory of the app %s: %w", app, err)
	}
	return dir, nil
}
