package seal_test

import (
	"fmt"
	"log"
	"os"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/seal"
)

// A sealed value is encrypted in the file, and is the same value to the app.
func ExampleAESGCM() {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	secret := make([]byte, 32) // from the platform's keystore
	sealer, err := seal.AESGCM(secret)
	if err != nil {
		log.Fatal(err)
	}
	gateCode := pantry.Text("gate/code", "").Sealed()
	ns, err := pantry.Open(dir, "gatehouse", pantry.Declare(gateCode), pantry.Seal(sealer))
	if err != nil {
		log.Fatal(err)
	}
	defer ns.Close()
	fmt.Println(gateCode.In(ns).Set("4711"), gateCode.In(ns).Get())
	file, err := os.ReadFile(ns.Path())
	fmt.Println(strings.Contains(string(file), "4711"), err)
	// Output:
	// <nil> 4711
	// false <nil>
}
