package qrcode_test

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"rsc.io/qr"

	"github.com/small-pantry/pantry/internal/cli/qrcode"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

const link = "https://pantry.example/boards/rowan-street#k3f9wq2d.abcdefghijklmnopqrstuvwxyz"

// The output in a terminal and on paper is the code, module for module.
func TestCodes(t *testing.T) {
	t.Parallel()
	code, err := qr.Encode(link, qr.L)
	require.NoError(t, err)
	var out strings.Builder
	require.NoError(t, qrcode.Print(&out, link, true))
	assert.Contains(t, out.String(), "\x1b[97;40m", "dark on light, with all colours of terminals")
	plain := regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(out.String(), "")
	out.Reset()
	require.NoError(t, qrcode.Print(&out, link, false))
	assert.Equal(t, plain, out.String())
	for row, line := range strings.Split(strings.TrimSuffix(plain, "\n"), "\n") {
		for x, r := range []rune(line) {
			for half, light := range []bool{r == '█' || r == '▀', r == '█' || r == '▄'} {
				if y := 2*row + half; y < code.Size+4 {
					assert.Equal(t, code.Black(x-2, y-2), !light, "%d, %d", x, y)
				}
			}
		}
	}

	path, side, err := qrcode.Path(link)
	require.NoError(t, err)
	code, err = qr.Encode(link, qr.M)
	require.NoError(t, err)
	assert.Equal(t, code.Size, side)
	dark := map[string]bool{}
	for _, run := range regexp.MustCompile(`M(\d+) (\d+)h(\d+)v1h-(\d+)z`).FindAllStringSubmatch(path, -1) {
		assert.Equal(t, run[3], run[4])
		x, _ := strconv.Atoi(run[1])
		n, _ := strconv.Atoi(run[3])
		for i := range n {
			dark[fmt.Sprint(x+i, " ", run[2])] = true
		}
	}
	for y := range side {
		for x := range side {
			assert.Equal(t, code.Black(x, y), dark[fmt.Sprint(x, " ", y)], "%d, %d", x, y)
		}
	}
	_, _, err = qrcode.Path(strings.Repeat("x", 5000))
	assert.Error(t, err)
}
