package postgres

import (
	"net"
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"
)

// TestAServerThatIsStartingUpIsWaitedFor: after a crash a server listens long before it takes
// sessions, and longer than anybody would wait for one that says nothing.
func TestAServerThatIsStartingUpIsWaitedFor(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	const starts = 5
	go func() {
		for i := 0; ; i++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			answers := pgproto3.NewBackend(c, c)
			answers.ReceiveStartupMessage()
			if i < starts {
				answers.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: "57P03", Message: "starting up"})
			} else {
				answers.Send(&pgproto3.AuthenticationOk{})
				answers.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
			}
			answers.Flush()
			if i < starts {
				c.Close()
			}
		}
	}()
	s := &Server{admin: "postgres://undersail:x@" + l.Addr().String() + "/" + Database + "?sslmode=disable"}
	conn, err := s.session(t.Context(), 2)
	if err != nil {
		t.Fatal(err)
	}
	conn.PgConn().Conn().Close()
}
