import com.zaxxer.hikari.*;
import java.sql.*;
import java.util.*;

/** pgjdbc through a connection pool, with autocommit off, as object-relational mappers use it. */
public class Pooled {
    public static void main(String[] args) throws Exception {
        Map<String, String> env = System.getenv();
        HikariConfig cfg = new HikariConfig();
        cfg.setJdbcUrl("jdbc:postgresql://" + env.get("PGHOST") + ":" + env.get("PGPORT") + "/" + env.get("PGDATABASE")
            + "?user=" + env.get("PGUSER") + "&sslmode=disable&ApplicationName=" + env.get("PGAPPNAME"));
        cfg.setMaximumPoolSize(1);
        cfg.setAutoCommit(false);
        cfg.setTransactionIsolation("TRANSACTION_READ_COMMITTED");
        try (HikariDataSource ds = new HikariDataSource(cfg)) {
            for (int turn = 0; turn < 20; turn++) {
                try (Connection c = ds.getConnection()) {
                    Jdbc.turn(c, turn);
                    c.commit();
                }
            }
        }
    }
}
