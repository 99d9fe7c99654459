using Rovett.Core.Ledgers;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>A clock that somebody sets: what is believed of it, what is due by it, what is trimmed by it.</summary>
public class ServiceClockTests
{
    sealed class Machine : TimeProvider, IElapsedTime
    {
        static readonly DateTimeOffset Start = new(2026, 11, 27, 8, 0, 0, TimeSpan.Zero);
        TimeSpan passed, set;
        public string Boot { get; set; } = "one";
        public TimeSpan Elapsed => passed;
        public override DateTimeOffset GetUtcNow() => Start + passed + set;
        public void Pass(TimeSpan by) => passed += by;
        public void Set(TimeSpan by) => set += by;

        /// <summary>Hours since the start, as a time of some kind says.</summary>
        public static double Hours(DateTimeOffset time) => Math.Round((time - Start).TotalHours, 4);
        public static double Hours(StoredTime time) => Hours(new DateTimeOffset(time.ToDateTime()));
    }

    static readonly TimeSpan Hour = TimeSpan.FromHours(1), Minute = TimeSpan.FromMinutes(1);

    readonly Machine machine = new();

    (double Believed, double Due, double Retention) Look(ServiceClock clock) =>
        (Machine.Hours(clock.GetUtcNow()), Machine.Hours(clock.Due), Machine.Hours(clock.Retention));

    [Fact]
    public void Small_differences_are_followed_at_once()
    {
        var clock = new ServiceClock(machine);
        machine.Pass(Hour);
        machine.Set(TimeSpan.FromSeconds(1.5));
        clock.GetUtcNow().ShouldBe(machine.GetUtcNow());
        machine.Set(TimeSpan.FromSeconds(-1.9));
        clock.GetUtcNow().ShouldBe(machine.GetUtcNow());
        clock.Step.ShouldBeNull();
    }

    [Theory]
    [InlineData(10)]
    [InlineData(-10)]
    public void A_step_that_comes_and_goes_changes_nothing(double hours)
    {
        var clock = new ServiceClock(machine);
        machine.Set(Hour * hours);
        Look(clock).ShouldBe((0, 0, 0));
        machine.Pass(Minute * 4);
        clock.StepHasLasted.ShouldBeFalse();
        clock.Step!.Value.By.TotalHours.ShouldBe(hours, 0.001);
        machine.Set(Hour * -hours);
        machine.Pass(Minute * 56);
        clock.Step.ShouldBeNull();
        Look(clock).ShouldBe((1, 1, 1));
        clock.ToRow().Shift.ShouldBe(0);
    }

    [Theory]
    [InlineData(10)]
    [InlineData(-10)]
    public void A_step_that_lasts_is_believed_and_what_is_due_stays_due_when_it_was(double hours)
    {
        var clock = new ServiceClock(machine);
        machine.Set(Hour * hours);
        clock.GetUtcNow();
        machine.Pass(Minute * 6);
        clock.StepHasLasted.ShouldBeTrue();
        clock.Believe(clock.Step!.Value);
        Look(clock).ShouldBe((hours + 0.1, 0.1, hours > 0 ? 0.1 : hours + 0.1));
        Machine.Hours(clock.Shown(clock.Due)).ShouldBe(hours + 0.1);
        Machine.Hours(clock.DueAt(StoredTime.From(clock.GetUtcNow()))).ShouldBe(0.1);
        // And back: as if nothing had been, but that retention takes its time with any step ahead.
        machine.Set(Hour * -hours);
        clock.GetUtcNow();
        machine.Pass(Minute * 6);
        clock.Believe(clock.Step!.Value);
        Look(clock).ShouldBe((0.2, 0.2, hours > 0 ? 0.2 : hours + 0.2));
        clock.ToRow().Shift.ShouldBe(0);
    }

    [Fact]
    public void Retention_follows_a_believed_step_ahead_after_a_day_or_an_operators_word()
    {
        var clock = new ServiceClock(machine);
        machine.Set(Hour * 100);
        clock.GetUtcNow();
        machine.Pass(Minute * 6);
        clock.Believe(clock.Step!.Value);
        machine.Pass(Hour * 23);
        clock.RetentionHeldBack.TotalHours.ShouldBe(100, 0.01);
        machine.Pass(Hour * 2);
        clock.RetentionHeldBack.ShouldBe(TimeSpan.Zero);

        var other = new ServiceClock(machine);
        machine.Set(Hour * 100);
        other.GetUtcNow();
        machine.Pass(Minute * 6);
        other.Believe(other.Step!.Value);
        other.ConfirmRetention();
        other.RetentionHeldBack.ShouldBe(TimeSpan.Zero);
    }

    [Theory]
    [InlineData(10)]
    [InlineData(-10)]
    public void A_restart_of_the_service_measures_how_long_it_was_away(double hours)
    {
        var before = new ServiceClock(machine);
        machine.Pass(Hour);
        var row = before.ToRow();
        machine.Set(Hour * hours); // while it is stopped
        machine.Pass(Hour);
        var clock = new ServiceClock(machine, row, TimeSpan.FromMinutes(10));
        Look(clock).ShouldBe((2, 2, 2));
        clock.Step!.Value.By.TotalHours.ShouldBe(hours, 0.001);
    }

    [Fact]
    public void After_the_machine_was_started_anew_its_clock_is_believed_but_trims_nothing_after_a_long_absence()
    {
        var before = new ServiceClock(machine);
        machine.Pass(Hour);
        var row = before.ToRow();
        machine.Pass(Hour * 40);
        machine.Boot = "two";
        var clock = new ServiceClock(machine, row, TimeSpan.FromHours(24));
        Look(clock).ShouldBe((41, 41, 1));
        var patient = new ServiceClock(machine, row, TimeSpan.FromHours(48));
        Look(patient).ShouldBe((41, 41, 41));
        machine.Pass(Hour * 25);
        Look(clock).ShouldBe((66, 66, 66));
    }

    [Fact]
    public void After_the_machine_was_started_anew_with_a_clock_behind_nothing_waits_for_it_to_catch_up()
    {
        var before = new ServiceClock(machine);
        machine.Pass(Hour * 20);
        var row = before.ToRow();
        machine.Boot = "two";
        machine.Set(Hour * -10);
        var clock = new ServiceClock(machine, row, TimeSpan.FromHours(24));
        Look(clock).ShouldBe((10, 20, 10));
        machine.Pass(Hour);
        Look(clock).ShouldBe((11, 21, 11));
    }

    [Fact]
    public void What_is_held_back_is_known_after_a_restart()
    {
        var before = new ServiceClock(machine);
        machine.Set(Hour * 100);
        before.GetUtcNow();
        machine.Pass(Minute * 6);
        before.Believe(before.Step!.Value);
        var row = before.ToRow();
        var again = new ServiceClock(machine, row, TimeSpan.FromHours(1));
        again.RetentionHeldBack.TotalHours.ShouldBe(100, 0.01);
        machine.Boot = "two";
        machine.Set(Hour * -100); // it was wrong
        var right = new ServiceClock(machine, row, TimeSpan.FromHours(1));
        right.RetentionHeldBack.ShouldBe(TimeSpan.Zero);
        Look(right).ShouldBe((0.1, 0.1, 0.1));
    }
}
