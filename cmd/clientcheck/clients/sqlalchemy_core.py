"""SQLAlchemy with its pool: a transaction for each use of a connection, and a rollback when it is given back."""
import sqlalchemy as sa

e = sa.create_engine("postgresql+psycopg2://", pool_size=1)
meta = sa.MetaData()
ports = sa.Table("ports", meta, sa.Column("id", sa.Integer, primary_key=True), sa.Column("name", sa.Text), sa.Column("country", sa.Text))
sailings = sa.Table("sailings", meta, sa.Column("id", sa.Integer, primary_key=True), sa.Column("port", sa.Integer), sa.Column("seats", sa.Integer))
for turn in range(20):
    with e.begin() as c:
        n = turn % 3 + 1
        print(c.execute(sa.select(ports.c.id, ports.c.name, ports.c.country).where(ports.c.id == n)).fetchall())
        print(c.execute(sa.select(sa.func.count()).select_from(sailings).where(sailings.c.port == n)).fetchall())
        print(c.execute(sa.select(ports.c.name).order_by(ports.c.id)).fetchall())
        if turn % 5 == 4:
            c.execute(sailings.update().where(sailings.c.id == turn).values(seats=sailings.c.seats - 1))
