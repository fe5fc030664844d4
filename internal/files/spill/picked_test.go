package spill

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func newPicked(t *testing.T, folder string) (*Picked, string) {
	t.Helper()
	parent := filepath.Join(t.TempDir(), folder)
	require.NoError(t, os.MkdirAll(parent, 0o755))
	s, err := NewPicked(parent)
	require.NoError(t, err)
	return s, parent
}

func TestPickedInFoldersWithOddNames(t *testing.T) {
	for _, folder := range []string{"plain", "w?x", "a#b", "50%", "%41", "a b", "?mode=memory", "ünï"} {
		s, parent := newPicked(t, folder)
		require.NoError(t, s.Pick(Pick{Type: "a", Order: "1"}, 0), folder)
		n, err := s.Count("a")
		require.NoError(t, err)
		assert.Equal(t, 1, n)
		require.NoError(t, s.Close())
		left, err := os.ReadDir(parent)
		require.NoError(t, err)
		assert.Empty(t, left, "nothing stays behind")
		beside, err := os.ReadDir(filepath.Dir(parent))
		require.NoError(t, err)
		assert.Len(t, beside, 1, "nothing is written beside the folder")
	}
}

func TestARecordIsPickedOnceForItsBestReason(t *testing.T) {
	s, _ := newPicked(t, "x")
	defer s.Close()
	why := func(order string) Pick {
		r, ok, err := s.Why("a", order)
		require.NoError(t, err)
		require.True(t, ok)
		return r
	}
	require.NoError(t, s.Pick(Pick{Type: "a", Order: "1", Key: "k1"}, 0))
	require.NoError(t, s.Pick(Pick{Type: "a", Order: "1", Key: "k1", Along: true, Through: "b/1 x"}, 1))
	assert.Equal(t, Pick{Type: "a", Order: "1"}, why("1"), "what was chosen stays chosen")

	for _, through := range []string{"m", "b", "z"} {
		require.NoError(t, s.Pick(Pick{Type: "a", Order: "2", Along: true, Through: through}, 1))
	}
	require.NoError(t, s.Pick(Pick{Type: "a", Order: "2", Along: true, Through: "a"}, 2))
	assert.Equal(t, "b", why("2").Through, "the least reason of the first round")

	require.NoError(t, s.Pick(Pick{Type: "a", Order: "3", Along: true, Through: "part/1", OwnerOnly: true}, 1))
	assert.True(t, why("3").OwnerOnly)
	require.NoError(t, s.Pick(Pick{Type: "a", Order: "3", Along: true, Through: "z"}, 2))
	assert.Equal(t, Pick{Type: "a", Order: "3", Along: true, Through: "z"}, why("3"), "needed for something else, it brings its parts as well")
	again, err := s.Batch("a", 2, "", 10)
	require.NoError(t, err)
	assert.Len(t, again, 1, "so it is gone through again")

	_, ok, err := s.Why("a", "none")
	require.NoError(t, err)
	assert.False(t, ok)
	has, err := s.Has("a", "1")
	require.NoError(t, err)
	assert.True(t, has)
}

func TestWhatIsReferredToAndNotPicked(t *testing.T) {
	s, _ := newPicked(t, "x")
	defer s.Close()
	for _, r := range []Pick{
		{Type: "b", Order: "2", Key: "k", Through: "x", From: "a", Line: 9}, {Type: "b", Order: "2", Key: "k", Through: "y", From: "a", Line: 3}, {Type: "b", Order: "2", Key: "k", Through: "a", From: "a", Line: 3},
		{Type: "a", Order: "1", Key: "k", Through: "x"}, {Type: "b", Order: "1", Key: "k", Through: "x"}, {Type: "c", Order: "\x00", Key: "k", Through: "x"},
	} {
		require.NoError(t, s.Refer(r))
	}
	require.NoError(t, s.Pick(Pick{Type: "b", Order: "1"}, 0))
	var got []string
	for typ, after := "", ""; ; {
		batch, err := s.Referred(typ, after, 1)
		require.NoError(t, err)
		if len(batch) == 0 {
			break
		}
		typ, after = batch[0].Type, batch[0].Order
		got = append(got, fmt.Sprintf("%s %q %s %s:%d", typ, after, batch[0].Through, batch[0].From, batch[0].Line))
	}
	assert.Equal(t, []string{`a "1" x :0`, `b "2" a a:3`, `c "\x00" x :0`}, got, "where it is referred to first")
}

// TestPickedDoesNotDependOnTheOrder picks the same records in other orders.
func TestPickedDoesNotDependOnTheOrder(t *testing.T) {
	var first []Pick
	for seed := range uint64(6) {
		random := rand.New(rand.NewPCG(seed, 2))
		var all []Pick
		for i := range 400 {
			all = append(all, Pick{Type: "a", Order: fmt.Sprintf("%03d", i%90), Key: "k", Along: true, Through: fmt.Sprint(i * 37 % 400), OwnerOnly: i%3 == 0})
		}
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		s, _ := newPicked(t, "x")
		for _, r := range all {
			require.NoError(t, s.Pick(r, 1))
		}
		var got []Pick
		for after := ""; ; {
			batch, err := s.Batch("a", -1, after, 7)
			require.NoError(t, err)
			if len(batch) == 0 {
				break
			}
			got = append(got, batch...)
			after = batch[len(batch)-1].Order
		}
		assert.Len(t, got, 90)
		assert.True(t, slices.IsSortedFunc(got, func(a, b Pick) int { return slices.Compare([]byte(a.Order), []byte(b.Order)) }))
		if first == nil {
			first = got
		}
		assert.Equal(t, first, got, "seed %d", seed)
		require.NoError(t, s.Close())
	}
}

// TestPickedInMemoryAndInAFile does the same with a set in memory, one in a file, and one that
// moves there half way.
func TestPickedInMemoryAndInAFile(t *testing.T) {
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 3))
		var sets []*Picked
		for _, most := range []int{mostHeld, 0, 20_000} {
			s, _ := newPicked(t, "x")
			s.most = most
			sets = append(sets, s)
		}
		text := func(n int) string { return fmt.Sprintf("%c\x00%d", 'a'+rune(random.IntN(26)), random.IntN(n)) }
		same := func(what string, of func(s *Picked) any) {
			t.Helper()
			first := of(sets[0])
			for _, s := range sets[1:] {
				require.Equal(t, first, of(s), "seed %d: %s", seed, what)
			}
		}
		for range 400 {
			typ, round := string(rune('a'+random.IntN(3))), random.IntN(4)
			r := Pick{Type: typ, Order: text(5), Key: "k", Along: random.IntN(2) == 0, Through: text(9), OwnerOnly: random.IntN(3) == 0, Followed: random.IntN(2) == 0}
			after, limit := text(5), 1+random.IntN(9)
			switch random.IntN(8) {
			case 0, 1, 2:
				for _, s := range sets {
					require.NoError(t, s.Pick(r, round))
				}
			case 3:
				r = Pick{Type: typ, Order: r.Order, Key: "k", Through: r.Through, From: text(2), Line: random.IntN(3)}
				for _, s := range sets {
					require.NoError(t, s.Refer(r))
				}
			case 4:
				same("why", func(s *Picked) any {
					why, ok, err := s.Why(typ, r.Order)
					return []any{why, ok, err}
				})
			case 5:
				same("count", func(s *Picked) any {
					n, err := s.CountIn(typ, round-1)
					return []any{n, err}
				})
			case 6:
				same("batch", func(s *Picked) any {
					list, err := s.Batch(typ, round-1, after, limit)
					return []any{list, err}
				})
			default:
				same("referred", func(s *Picked) any {
					list, err := s.Referred(typ, after, limit)
					return []any{list, err}
				})
			}
		}
		assert.NotNil(t, sets[0].held)
		assert.Nil(t, sets[1].held)
		assert.Nil(t, sets[2].held, "it was to move")
		for _, s := range sets {
			require.NoError(t, s.Close())
		}
	}
}
