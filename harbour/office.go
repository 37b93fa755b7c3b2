package harbour

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/jackc/pgx/v5"
)

// moveEvery is how often a vessel comes or goes.
const moveEvery = 4 * time.Second

// Office keeps the table berths in the office's database, which vessels take and leave, until ctx is done.
func Office(ctx context.Context, address string) error {
	err := office(ctx, address)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func office(ctx context.Context, address string) error {
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return fmt.Errorf("the office's database: %w", err)
	}
	defer c.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing waits
	if _, err := c.Exec(ctx, `CREATE TABLE IF NOT EXISTS berths (berth text PRIMARY KEY, vessel text NOT NULL DEFAULT '')`); err != nil {
		return fmt.Errorf("the office's table: %w", err)
	}
	if _, err := c.Exec(ctx, `ALTER TABLE berths REPLICA IDENTITY FULL`); err != nil { // changes tell what was there before
		return fmt.Errorf("the office's table: %w", err)
	}
	if _, err := c.Exec(ctx, `INSERT INTO berths (berth) SELECT 'B' || n FROM generate_series(1, 6) n ON CONFLICT DO NOTHING`); err != nil {
		return fmt.Errorf("the office's table: %w", err)
	}
	vessels := []string{"Avocet", "Bittern", "Curlew", "Dunlin", "Egret", "Gannet", "Heron", "Pipit", "Redshank", "Whimbrel"}
	for {
		berth := fmt.Sprint("B", 1+rand.IntN(6))
		if _, err := c.Exec(ctx, `UPDATE berths SET vessel = CASE WHEN vessel = '' THEN $2 ELSE '' END WHERE berth = $1`, berth, vessels[rand.IntN(len(vessels))]); err != nil {
			return fmt.Errorf("the office's table: %w", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(moveEvery):
		}
	}
}
