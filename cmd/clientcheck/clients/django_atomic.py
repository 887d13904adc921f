"""Django with a transaction for each request."""
import os
import django
from django.conf import settings

settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.postgresql", "NAME": os.environ["PGDATABASE"], "USER": os.environ["PGUSER"],
                           "HOST": os.environ["PGHOST"], "PORT": os.environ["PGPORT"], "ATOMIC_REQUESTS": True}},
    INSTALLED_APPS=[], USE_TZ=True)
django.setup()
from django.db import connection, models, transaction


class Port(models.Model):
    name = models.TextField()
    country = models.TextField()

    class Meta:
        app_label, db_table, managed = "harbour", "ports", False


class Sailing(models.Model):
    port = models.IntegerField()
    seats = models.IntegerField()

    class Meta:
        app_label, db_table, managed = "harbour", "sailings", False


for request in range(20):
    if request == 10:
        connection.close()
    with transaction.atomic():
        n = request % 3 + 1
        print(list(Port.objects.filter(id=n).values_list()))
        print(Sailing.objects.filter(port=n).count())
        print(list(Port.objects.order_by("id").values_list("name", flat=True)))
        if request % 5 == 4:
            Sailing.objects.filter(id=request).update(seats=models.F("seats") - 1)
