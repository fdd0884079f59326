using Microsoft.EntityFrameworkCore;

namespace RapidGable.Bench.ByHand;

internal sealed class Station
{
    public long id { get; set; }
    public string code { get; set; } = "";
    public string name { get; set; } = "";
    public long catchment_id { get; set; }
    public double latitude { get; set; }
    public double longitude { get; set; }
    public DateOnly opened_on { get; set; }
    public DateOnly? closed_on { get; set; }
    public bool telemetered { get; set; }
    public decimal datum_m { get; set; }
    public string? access_notes { get; set; }
    public DateTime changed_at { get; set; }
    public Catchment? catchment { get; set; }
    public List<Sensor> Sensors { get; set; } = [];
}

internal sealed class Catchment
{
    public long id { get; set; }
    public string name { get; set; } = "";
    public long? parent_id { get; set; }
    public decimal area_km2 { get; set; }
}

internal sealed class Sensor
{
    public long station_id { get; set; }
    public long sensor_no { get; set; }
    public string kind { get; set; } = "";
    public string unit { get; set; } = "";
    public string? firmware { get; set; }

    [System.ComponentModel.DataAnnotations.Schema.NotMapped]
    public List<Reading>? Readings { get; set; }
}

internal sealed class Reading
{
    public long id { get; set; }
    public long station_id { get; set; }
    public long sensor_no { get; set; }
    public DateTime taken_at { get; set; }
    public decimal? value { get; set; }
    public string? quality { get; set; }
    public string? note { get; set; }
}

internal sealed class Network(DbContextOptions<Network> options) : DbContext(options)
{
    public DbSet<Station> Stations => Set<Station>();

    public DbSet<Reading> Readings => Set<Reading>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        modelBuilder.Entity<Station>().ToTable("station").HasOne(s => s.catchment).WithMany().HasForeignKey(s => s.catchment_id);
        modelBuilder.Entity<Station>().HasMany(s => s.Sensors).WithOne().HasForeignKey(s => s.station_id);
        modelBuilder.Entity<Catchment>().ToTable("catchment");
        modelBuilder.Entity<Sensor>().ToTable("sensor").HasKey(s => new { s.station_id, s.sensor_no });
        modelBuilder.Entity<Reading>().ToTable("reading");
    }
}

/// <summary>An object-relational mapper makes the SQL and the objects, and a serializer writes them.</summary>
internal static class Orm
{
    public static Func<Network> Opener(string connection, bool isSqlite)
    {
        var builder = new DbContextOptionsBuilder<Network>();
        var options = (isSqlite ? builder.UseSqlite(connection) : builder.UseNpgsql(connection)).Options;
        var pool = new Microsoft.EntityFrameworkCore.Infrastructure.PooledDbContextFactory<Network>(options);
        return pool.CreateDbContext;
    }

    public static void Map(WebApplication app, string root, string connection, bool isSqlite)
    {
        var open = Opener(connection, isSqlite);
        app.MapGet(root + "/station/{id}", async (long id) =>
        {
            await using var network = open();
            return Results.Json(await network.Stations.AsNoTracking().SingleAsync(s => s.id == id));
        });
        app.MapGet(root + "/summary", async (string station) =>
        {
            await using var network = open();
            var found = network
                .Stations.AsNoTracking()
                .Where(s => s.code == station)
                .Select(s => new
                {
                    s.code,
                    s.name,
                    s.closed_on,
                    last_reading_at = network
                        .Readings.Where(r => r.station_id == s.id)
                        .OrderByDescending(r => r.taken_at)
                        .ThenByDescending(r => r.id)
                        .Select(r => (DateTime?)r.taken_at)
                        .FirstOrDefault(),
                    sensors = s.Sensors.LongCount(),
                });
            return Results.Json(await found.SingleAsync());
        });
        app.MapGet(root + "/stations", async (bool on, long after) =>
        {
            await using var network = open();
            var found = network.Stations.AsNoTracking().Where(s => s.telemetered == on && s.id > after);
            var count = await found.CountAsync();
            return Results.Json(new { count, value = await found.OrderBy(s => s.name).ThenBy(s => s.id).Take(100).ToListAsync() });
        });
        app.MapGet(root + "/stations-with-catchment", async (long after) =>
        {
            await using var network = open();
            var found = network.Stations.AsNoTracking().Where(s => s.id > after).Include(s => s.catchment).OrderBy(s => s.id).Take(100);
            return Results.Json(new { value = await found.ToListAsync() });
        });
        app.MapGet(root + "/stations-with-sensors", async (long after) =>
        {
            await using var network = open();
            var found = network
                .Stations.AsNoTracking()
                .Where(s => s.id > after)
                .Include(s => s.Sensors.OrderBy(n => n.sensor_no))
                .OrderBy(s => s.id)
                .Take(50);
            return Results.Json(new { value = await found.ToListAsync() });
        });
        app.MapGet(root + "/sensor-with-newest", async (long station, long sensor) =>
        {
            await using var network = open();
            var found = await network.Set<Sensor>().AsNoTracking().SingleAsync(s => s.station_id == station && s.sensor_no == sensor);
            found.Readings = await network
                .Readings.AsNoTracking()
                .Where(r => r.station_id == station && r.sensor_no == sensor)
                .OrderByDescending(r => r.taken_at)
                .ThenBy(r => r.id)
                .Take(50)
                .ToListAsync();
            return Results.Json(found);
        });
        app.MapGet(root + "/readings", async (long after, int rows) =>
        {
            await using var network = open();
            return Results.Json(
                new { value = await network.Readings.AsNoTracking().Where(r => r.id > after).OrderBy(r => r.id).Take(rows).ToListAsync() }
            );
        });
        app.MapGet(root + "/readings-csv", async (HttpContext context, long after, int rows) =>
        {
            await using var network = open();
            var page = network.Readings.AsNoTracking().Where(r => r.id > after).OrderBy(r => r.id).Take(rows);
            await CsvRows.SendAsync(context.Response, await page.ToListAsync());
        });
        app.MapGet(root + "/qualities", async () =>
        {
            await using var network = open();
            return Results.Json(
                new
                {
                    value = await network
                        .Readings.GroupBy(r => r.quality)
                        .OrderBy(g => g.Key)
                        .Select(g => new
                        {
                            quality = g.Key,
                            mean = g.Average(r => (double?)r.value),
                            n = g.Count(),
                        })
                        .ToListAsync(),
                }
            );
        });
    }
}
