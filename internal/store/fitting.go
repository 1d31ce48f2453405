package store

import (
	"fmt"
	"slices"
	"strings"
)

// slim are the columns of a device by which images are judged and plans are made.
var slim = []string{"id", "site_id", "room_id", "name", "hostname", "model", "tags", "hardware_id", "stage", "presence", "firmware", "running", "digest", "standing", "attention", "battery"}

// SlimDevices reads of many devices only what images are judged and plans are made
// by, in the order of their sites and names. The other fields are zero. A hundred
// thousand take a quarter of the time that whole records take.
func SlimDevices(tx *Tx, where string, args ...any) ([]Device, error) {
	rows, err := tx.db.Model(&Device{}).Select(strings.Join(slim, ", ")).Where(where, args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("read the devices: %w", err)
	}
	defer func() { _ = rows.Close() }()
	out := []Device{}
	for rows.Next() {
		var d Device
		if err := rows.Scan(&d.ID, &d.SiteID, &d.RoomID, &d.Name, &d.Hostname, &d.Model, &d.Tags, &d.HardwareID, &d.Stage, &d.Presence, &d.Firmware, &d.Running, &d.Digest, &d.Standing, &d.Attention, &d.Battery); err != nil {
			return nil, fmt.Errorf("read a device: %w", err)
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b Device) int {
		if c := strings.Compare(a.SiteID, b.SiteID); c != 0 {
			return c
		}
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out, rows.Err()
}
