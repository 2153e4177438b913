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

// AppDir returns the directory for an app's namespaces and creates it with mode 0700. On Android
// and iOS the platform assigns a directory to each app: pass that absolute path (on Android the
// result of Context.getFilesDir). On a desktop pass the app's name, as CheckNamespace allows it;
// the directory is under os.UserConfigDir.
//
// The errors are ErrInvalid for a bad name, and for a name on Android, and errors of the file
// system.
func AppDir(app string) (string, error) {
	dir := app
	if !filepath.IsAbs(app) {
		if err := CheckNamespace(app); err != nil {
			return "", err
		}
		if runtime.GOOS == "android" {
			return "", refuse.As(ErrInvalid, "on Android, AppDir needs the path that Context.getFilesDir returns, not the name %s", scan.Quote(app))
		}
		config, err := os.UserConfigDir()
		if err != nil {
			return "", fmt.Errorf("find the directory of the app %s: %w", app, err)
		}
		dir = filepath.Join(config, app)
	}
	if err := journal.MakeDir(journal.OS, dir); err != nil {
		return "", fmt.Errorf("create the directory of the app %s: %w", app, err)
	}
	return dir, nil
}
