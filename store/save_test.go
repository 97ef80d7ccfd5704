package store_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/image"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// version is a version that is being captured.
func version(t *testing.T, s *store.Store) store.Version {
	t.Helper()
	img := store.Image{Name: "desk", Numbering: image.Calendar, MachineClass: "standard"}
	require.NoError(t, s.DB.Create(&img).Error)
	v := store.Version{
		ImageID: img.ID, Number: "2026.11.1", State: image.Capturing, Source: "quay/bm",
		CreatedAt: time.Now(),
	}
	require.NoError(t, s.DB.Create(&v).Error)
	return v
}

func TestSavingKeepsWhatOthersChangedMeanwhile(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	ctx, now := t.Context(), time.Now()
	v := version(t, s)
	// While notes are edited, the capture ends.
	require.NoError(t, s.Change(ctx, "tove", now, func(tx *store.Tx) error {
		mine, err := store.VersionByID(tx.DB, v.ID)
		require.NoError(t, err)
		require.NoError(t, s.Change(context.WithoutCancel(ctx), "service", now, func(tx *store.Tx) error {
			theirs, err := store.VersionByID(tx.DB, v.ID)
			require.NoError(t, err)
			theirs.State, theirs.Digest, theirs.SealedAt = image.Sealed, "sha256:7", &tx.Now
			return tx.Save(&theirs).Error
		}))
		mine.Notes, mine.Tags = "tickets print again", store.Strings{"november"}
		return tx.Save(&mine).Error
	}))
	now1, err := store.VersionByID(s.DB, v.ID)
	require.NoError(t, err)
	require.Equal(t, image.Sealed, now1.State)
	require.Equal(t, "sha256:7", now1.Digest)
	require.Equal(t, "tickets print again", now1.Notes)
	require.Equal(t, store.Strings{"november"}, now1.Tags)
}

func TestChangesOfTheSameColumnAreDoneOneAfterTheOther(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	v := version(t, s)
	const many = 40
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range many / 8 {
				for {
					err := s.Change(context.Background(), "tove", time.Now(), func(tx *store.Tx) error {
						mine, err := store.VersionByID(tx.DB, v.ID)
						if err != nil {
							return err
						}
						mine.Revision++
						mine.Notes += "x"
						return tx.Save(&mine).Error
					})
					if !errors.Is(err, store.ErrConcurrent) {
						require.NoError(t, err)
						break
					}
				}
			}
		})
	}
	all.Wait()
	now, err := store.VersionByID(s.DB, v.ID)
	require.NoError(t, err)
	require.Equal(t, v.Revision+many, now.Revision)
	require.Len(t, now.Notes, many)
}

func TestOnlyRowsThatAChangeHasReadAreSaved(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	v := version(t, s)
	err := s.Change(t.Context(), "tove", time.Now(), func(tx *store.Tx) error {
		v.Notes = "of before"
		return tx.Save(&v).Error
	})
	require.ErrorContains(t, err, "a row is saved that the change has not read")

	// Several saves of one row, values in place, times and rows of a list.
	require.NoError(t, s.Change(t.Context(), "tove", time.Now(), func(tx *store.Tx) error {
		var rows []store.Version
		require.NoError(t, tx.Find(&rows).Error)
		mine := &rows[0]
		mine.Tags = append(mine.Tags, "a")
		mine.SealedAt = &tx.Now
		require.NoError(t, tx.Save(mine).Error)
		mine.Tags[0] = "b"
		later := tx.Now.Add(time.Nanosecond)
		mine.SealedAt = &later
		require.NoError(t, tx.Save(mine).Error)
		mine.SealedAt = nil
		mine.Waived.V = map[string]string{"signet": "known"}
		require.NoError(t, tx.Save(mine).Error)
		return tx.Save(mine).Error
	}))
	now, err := store.VersionByID(s.DB, v.ID)
	require.NoError(t, err)
	require.Equal(t, store.Strings{"b"}, now.Tags)
	require.Nil(t, now.SealedAt)
	require.Equal(t, map[string]string{"signet": "known"}, now.Waived.V)
	require.Empty(t, now.Notes)
}
