import java.sql.*;
import java.util.*;

/** pgjdbc: plain with autocommit off, or as a pool leaves its connections. */
public class Jdbc {
    static void query(Connection c, String sql, Integer n) throws SQLException {
        try (PreparedStatement s = c.prepareStatement(sql)) {
            if (n != null) s.setInt(1, n);
            StringBuilder out = new StringBuilder();
            try (ResultSet r = s.executeQuery()) {
                while (r.next()) {
                    for (int i = 1; i <= r.getMetaData().getColumnCount(); i++) out.append(r.getString(i)).append(' ');
                    out.append(';');
                }
            }
            System.out.println(out);
        }
    }

    static void turn(Connection c, int turn) throws SQLException {
        int n = turn % 3 + 1;
        query(c, "select id, name, country from ports where id = ?", n);
        query(c, "select count(*) from sailings where port = ?", n);
        query(c, "select name from ports order by id", null);
        if (turn % 5 == 4) {
            try (PreparedStatement s = c.prepareStatement("update sailings set seats = seats - 1 where id = ?")) {
                s.setInt(1, turn);
                s.addBatch();
                s.setInt(1, turn + 1);
                s.addBatch();
                s.executeBatch();
            }
        }
    }

    public static void main(String[] args) throws Exception {
        Map<String, String> env = System.getenv();
        String url = "jdbc:postgresql://" + env.get("PGHOST") + ":" + env.get("PGPORT") + "/" + env.get("PGDATABASE")
            + "?user=" + env.get("PGUSER") + "&sslmode=disable&ApplicationName=" + env.get("PGAPPNAME");
        for (int connection = 0; connection < 2; connection++) {
            Connection c = DriverManager.getConnection(url);
            if (args[0].equals("procedures")) {
                try (Statement s = c.createStatement()) {
                    s.execute("do $$ begin execute 'select 1'; end $$");
                    s.execute("call note(1)");
                    s.execute("select 1; select 2");
                }
            }
            c.setAutoCommit(false);
            if (args[0].equals("session")) c.setTransactionIsolation(Connection.TRANSACTION_READ_COMMITTED);
            for (int turn = 0; turn < 10; turn++) {
                if (args[0].equals("readonly")) c.setReadOnly(turn % 5 != 4);
                if (args[0].equals("metadata") && turn % 4 == 0) {
                    try (ResultSet r = c.getMetaData().getPrimaryKeys(null, "public", "ports")) {
                        while (r.next()) System.out.println(r.getString("COLUMN_NAME"));
                    }
                    try (ResultSet r = c.getMetaData().getIndexInfo(null, "public", "ports", true, false)) {
                        while (r.next()) System.out.println(r.getString("INDEX_NAME"));
                    }
                    try (ResultSet r = c.getMetaData().getImportedKeys(null, "public", "sailings")) {
                        while (r.next()) System.out.println(r.getString("FK_NAME"));
                    }
                }
                turn(c, turn);
                c.commit();
                if (args[0].equals("reset")) {
                    c.setAutoCommit(true);
                    try (Statement s = c.createStatement()) {
                        s.execute(turn % 2 == 0 ? "discard all" : "reset all");
                    }
                    c.setAutoCommit(false);
                }
            }
            c.close();
        }
    }
}
