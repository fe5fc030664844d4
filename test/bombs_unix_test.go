//go:build unix

package test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed makes a ZIP file of some texts.
func packed(t *testing.T, files ...string) string {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		require.NoError(t, err)
		// A text with a number before it is repeated so often.
		text, times := files[i+1], 1
		if number, rest, ok := strings.Cut(text, "×"); ok {
			times, err = strconv.Atoi(number)
			require.NoError(t, err)
			text, times = strings.Repeat(rest, 1000), times/1000
		}
		for range times {
			_, err = w.Write([]byte(text))
			require.NoError(t, err)
		}
	}
	require.NoError(t, z.Close())
	return out.String()
}

// Small files that unfold, never end or wait for somebody are listed as refused, and cost
// next to nothing; the others are listed as usual.
func TestBombsInALibrary(t *testing.T) {
	inGate(t, "files that unfold")
	p := plainPlace(t)
	p.must(0, "export", "source", "--name", "good")
	usual := p.must(0, "parcel", "list").peak + 100<<20 // and what this test itself has
	p.must(3, "match", "good", "--against", "target")
	whole, err := zip.OpenReader(p.path("parcels/good.parcel"))
	require.NoError(t, err)
	manifest := new(bytes.Buffer)
	for _, f := range whole.File {
		if f.Name == "parcel.json" {
			in, err := f.Open()
			require.NoError(t, err)
			_, err = manifest.ReadFrom(in)
			require.NoError(t, err)
		}
	}
	require.NoError(t, whole.Close())
	laugh := "a: &a [lol]\n"
	for i := 'b'; i < 'k'; i++ {
		laugh += fmt.Sprintf("%c: &%c [*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c]\n", i, i, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1)
	}
	many := make([]string, 0, 100_000)
	for i := range 50_000 {
		many = append(many, fmt.Sprintf("files/%064x", i), "")
	}
	bombs := map[string]string{
		"laughing":  packed(t, "parcel.json", manifest.String(), "catalog.yaml", laugh),
		"deep":      packed(t, "parcel.json", manifest.String(), "catalog.yaml", "1000000×["),
		"long":      packed(t, "parcel.json", "50000000× ", "catalog.yaml", "a: b"),
		"nested":    packed(t, "parcel.json", "1000000×{\"a\":", "catalog.yaml", "a: b"),
		"lists":     packed(t, "parcel.json", "2000000×{\"types\":[{}]},", "catalog.yaml", "a: b"),
		"many":      packed(t, many...),
		"outside":   packed(t, "../../x", "y"),
		"not a zip": strings.Repeat("PK\x03\x04", 300),
		"empty":     "",
	}
	for name, content := range bombs {
		p.write("parcels/"+name+".parcel", content)
	}
	require.NoError(t, syscall.Mkfifo(p.path("parcels/pipe.parcel"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", p.path("parcels/zero.parcel")))
	require.NoError(t, syscall.Mkfifo(p.path("dockets/0007.docket"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", p.path("dockets/0008.docket")))
	for _, args := range [][]string{{"status"}, {"parcel", "list"}, {"history"}, {"parcel", "list", "--json"}} {
		r := p.must(0, args...)
		assert.Contains(t, r.out, "good", "%v", args)
		assert.Less(t, r.seconds, 5.0, "%v", args)
		assert.Less(t, r.peak, usual, "%v", args)
	}
	list := words(p.must(0, "parcel", "list").out)
	for name := range bombs {
		assert.Contains(t, list, name)
		r := p.run("parcel", "show", name)
		assert.Equal(t, 1, r.code, name)
		assert.Less(t, r.seconds, 3.0, name)
		assert.Less(t, r.peak, usual, name)
		assert.NotEqual(t, 0, p.run("match", name, "--against", "target").code, name)
	}
	for _, name := range []string{"pipe", "zero"} {
		assert.Contains(t, list, name)
		assert.Contains(t, words(p.must(1, "parcel", "show", name).err), "no plain file")
	}
	p.must(1, "review", "7")
	p.must(1, "review", "8")
	// The workspace's own files.
	for _, name := range []string{"anagram.yaml", "catalog.yaml", ".anagram/register.jsonl"} {
		was := p.read(name)
		require.NoError(t, os.Remove(p.path(name)))
		require.NoError(t, syscall.Mkfifo(p.path(name), 0o600))
		r := p.run("match", "good", "--against", "target")
		assert.NotEqual(t, 0, r.code, name)
		assert.NotEqual(t, 3, r.code, name)
		assert.Contains(t, words(r.err), "no plain file", name)
		require.NoError(t, os.Remove(p.path(name)))
		p.write(name, string(was))
	}
	p.must(3, "match", "good", "--against", "target")
}
