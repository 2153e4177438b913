package mobile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/mobile"
)

// What is planted where: records of their own, exact, and there when it is opened again.
func TestRecords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	open := func() (*mobile.Namespace, *mobile.RecordsKey, *mobile.Records) {
		k := mobile.NewKeys()
		key := k.RecordsKey("plantings")
		ns := must[*mobile.Namespace](t)(mobile.Open(dir, "plotbook", k, nil))
		return ns, key, must[*mobile.Records](t)(key.Bind(ns))
	}
	ns, key, plantings := open()
	marrow := mobile.NewRecord().SetText("crop", "marrow 🌱").SetInt("spacing-cm", 9007199254740993).SetFloat("kg", 5).SetBool("sown", true).SetTime("at", 1_777_799_564_123).SetDuration("pause", 1500).SetBytes("photo", []byte{7}).SetItems("beds", texts("A1", "B2"))
	first := must[string](t)(plantings.Add(marrow))
	marrow.SetText("crop", "changed after it was stored")
	second := must[string](t)(plantings.Add(mobile.NewRecord().SetText("crop", "leek")))
	require.NoError(t, plantings.Put("north", mobile.NewRecord()))
	require.NoError(t, ns.Commit(change(func(b *mobile.Batch) error {
		return must[*mobile.Records](t)(key.In(b)).Drop(second)
	})))
	require.NoError(t, ns.Close())

	ns, _, plantings = open()
	defer func() { require.NoError(t, ns.Close()) }()
	ids := must[*mobile.Texts](t)(plantings.Ids())
	require.Equal(t, 2, ids.Len())
	assert.Equal(t, first, must[string](t)(ids.At(0)))
	r := must[*mobile.Record](t)(plantings.Get(first))
	assert.Equal(t, "marrow 🌱", must[string](t)(r.GetText("crop")))
	assert.EqualValues(t, 9007199254740993, must[int64](t)(r.GetInt("spacing-cm")))
	assert.Equal(t, 5.0, must[float64](t)(r.GetFloat("kg")))
	assert.True(t, must[bool](t)(r.GetBool("sown")))
	assert.EqualValues(t, 1_777_799_564_123, must[int64](t)(r.GetTime("at")))
	assert.EqualValues(t, 1500, must[int64](t)(r.GetDuration("pause")))
	assert.Equal(t, []byte{7}, must[[]byte](t)(r.GetBytes("photo")))
	assert.Equal(t, "B2", must[string](t)(must[*mobile.Items](t)(r.GetItems("beds")).GetText(1)))
	assert.Equal(t, 8, r.Names().Len())
	of := func(_ any, err error) string { return code(err) }
	assert.Equal(t, "wrong-kind", of(r.GetInt("kg")), "5.0 is no whole number")
	assert.Equal(t, "wrong-kind", of(r.GetText("sown")))
	assert.Equal(t, "wrong-kind", of(r.GetTime("crop")))
	assert.Equal(t, "wrong-kind", of(r.GetItems("crop")))
	assert.Equal(t, "absent", of(r.GetText("nothing")))
	assert.Equal(t, "absent", of(plantings.Get("99")))
	text := must[string](t)(r.JSON())
	assert.Contains(t, text, `"kg":5.0,"pause":1500000000,`)
	again := must[string](t)(must[*mobile.Record](t)(mobile.RecordFromJSON(text)).JSON())
	assert.Equal(t, text, again)
	for _, bad := range []string{"", "[1]", `{"a":`} {
		assert.Equal(t, "invalid", of(mobile.RecordFromJSON(bad)), bad)
	}
	r.Remove("kg")
	assert.False(t, r.Has("kg"))
	for what, got := range map[string]string{
		"no record": of(plantings.Add(nil)), "an empty collection": code((&mobile.Records{}).Clear()), "an empty key": of((&mobile.RecordsKey{}).Bind(ns)),
		"no namespace": of(key.Bind(nil)), "foreign keys": of(key.Bind(ns)), "no runner": of(plantings.Watch(nil, nil)),
	} {
		assert.Equal(t, "misuse", got, what)
	}
	assert.Equal(t, "invalid", code(plantings.Put("a/b", mobile.NewRecord())))
	require.NoError(t, plantings.Clear())
	assert.Zero(t, must[*mobile.Texts](t)(plantings.Ids()).Len())
}
