package clock

import (
	"context"
	"errors"
	"testing"
	"time"
)

func TestScaledTime(t *testing.T) {
	start := time.Now()
	c, other := Scaled(100, start), Scaled(100, start)
	time.Sleep(20 * time.Millisecond)
	if past := c.Now().Sub(start); past < 2*time.Second || past > time.Minute {
		t.Errorf("20 ms at a hundred times are %s", past)
	}
	if apart := other.Now().Sub(c.Now()); apart > time.Second || apart < -time.Second {
		t.Errorf("two clocks of one start are %s apart", apart)
	}
	if got := c.Real(time.Minute); got != 600*time.Millisecond {
		t.Errorf("a minute takes %s", got)
	}
	if w := Wall(); w.Real(time.Second) != time.Second || time.Since(w.Now()) > time.Second {
		t.Error("the wall's time is not the wall's")
	}
	if Scaled(0, start).Scale() != 1 {
		t.Error("a scale of zero stops time")
	}
}

func TestSleepEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := Wall().Sleep(ctx, time.Hour); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	if err := Scaled(1000, time.Now()).Sleep(context.Background(), time.Second); err != nil {
		t.Error(err)
	}
}
