"""The through-stack solver against known answers (NAFEMS, series solutions, composite wall)."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq

from mandorla.core.thermal.stack import series_resistance
from tests.core.slabs import Layer, march, slab, steady, surroundings


def slab_series(Bi: float, Fo: float, x: float, terms: int = 60) -> float:
    """Excess temperature over its start of a plane wall, convection at x = 1, insulated at x = 0 (Incropera eq. 5.42)."""
    total = 0.0
    for j in range(terms):
        low, high = j * np.pi + 1e-9, j * np.pi + np.pi / 2 - 1e-9
        zeta = brentq(lambda z: z * np.tan(z) - Bi, low, high, xtol=1e-14)
        C = 4 * np.sin(zeta) / (2 * zeta + np.sin(2 * zeta))
        total += C * np.exp(-(zeta**2) * Fo) * np.cos(zeta * x)
    return float(total)


def test_first_eigenvalue_of_the_series_is_the_tabulated_one() -> None:
    zeta = brentq(lambda z: z * np.tan(z) - 1.0, 1e-6, np.pi / 2 - 1e-6)
    assert zeta == pytest.approx(0.8603, abs=5e-5)
    assert 4 * np.sin(zeta) / (2 * zeta + np.sin(2 * zeta)) == pytest.approx(1.1191, abs=5e-5)


def test_nafems_t2_radiation_at_the_end_of_a_bar() -> None:
    # the held end is a thin, perfectly conducting cell, so that the bar's own end is at 1000 K
    body = slab([Layer(0.1, 55.6, 7850.0, 460.0, 40), Layer(1e-6, 1e6, 1.0, 1.0, 1)])
    found = steady(body, surroundings(room=300.0, h_top=0.0, emissivity_top=0.98), 1000.0)
    assert found.top == pytest.approx(927.0, abs=0.05)
    assert found.power == pytest.approx(0.98 * 5.670374e-8 * (found.top**4 - 300.0**4), rel=1e-6)


def test_nafems_t3_one_end_follows_a_sine() -> None:
    # a layer of practically infinite capacity holds the far end at 0 °C; a huge coefficient imposes the near end
    body = slab([Layer(0.1, 35.0, 7200.0, 440.5, 100), Layer(0.001, 1e7, 1e9, 1e6, 1)])
    dt = 0.05
    time = np.arange(1, round(32.0 / dt) + 1) * dt
    room = 273.15 + 100.0 * np.sin(np.pi * time / 40.0)
    cells = march(body, surroundings(room=273.15, h_top=1e9), 273.15, np.full(time.size, dt), room)
    centres = np.cumsum(body.dx) - 0.5 * body.dx
    there = float(np.interp(0.02, centres[:100], cells[-1, :100])) - 273.15
    assert there == pytest.approx(36.60, abs=0.05)


@pytest.mark.parametrize("Bi", [0.1, 1.0, 10.0])
@pytest.mark.parametrize("Fo", [0.1, 0.5, 1.5])
def test_slab_follows_the_series_solution(Bi: float, Fo: float) -> None:
    thickness, k, rho, cp = 0.02, 1.0, 2000.0, 1000.0
    body = slab([Layer(thickness, k, rho, cp, 100)])
    end = Fo * thickness**2 * rho * cp / k
    steps = np.full(8000, end / 8000)
    cells = march(body, surroundings(room=300.0, h_top=Bi * k / thickness), 400.0, steps)
    x = 1.0 - (np.cumsum(body.dx) - 0.5 * body.dx) / thickness
    for i in (0, 33, 66, 99):
        assert (cells[-1, i] - 300.0) / 100.0 == pytest.approx(slab_series(Bi, Fo, float(x[i])), abs=2e-4)


def two_layer_series(layers: tuple[Layer, Layer], h: float, time: float, points: np.ndarray) -> np.ndarray:
    """Cooling of two layers with a contact resistance, the first one convecting at its outer face, the second insulated.

    Separation of variables in each layer; the eigencondition says that the flux through the joint is the temperature jump
    over its resistance. Coefficients by the orthogonality with weight rho cp.
    """
    a, b = layers
    ka, kb = a.k, b.k
    alpha_a, alpha_b = a.k / (a.rho * a.cp), b.k / (b.rho * b.cp)

    def shape(beta: float) -> tuple[float, float, float, float]:
        # layer a from the convecting face (x = 0): X = cos(p x) + h/(k p) sin(p x); layer b from the insulated face: Y = c cos(q y)
        p, q = beta / np.sqrt(alpha_a), beta / np.sqrt(alpha_b)
        s = h / (ka * p)
        flux = -ka * p * (-np.sin(p * a.thickness) + s * np.cos(p * a.thickness))  # towards b
        end = np.cos(p * a.thickness) + s * np.sin(p * a.thickness)
        start_b = end - flux * a.joint
        c = start_b / np.cos(q * b.thickness)
        # what leaves layer a must enter layer b: its flux is k dY/dy, since y runs against x
        mismatch = flux + kb * c * q * np.sin(q * b.thickness)
        return mismatch, s, c, p

    def condition(beta: float) -> float:
        mismatch, _, _, _ = shape(beta)
        return mismatch * np.cos(beta / np.sqrt(alpha_b) * b.thickness)

    grid = np.linspace(1e-4, 2.0, 8000)
    values = np.array([condition(v) for v in grid])
    roots = [brentq(condition, grid[i], grid[i + 1], xtol=1e-14) for i in np.flatnonzero(values[:-1] * values[1:] < 0)]
    xa, xb = (np.linspace(0, v.thickness, 4001) for v in (a, b))
    total = np.zeros_like(points)
    for beta in roots[:20]:
        _, s, c, p = shape(beta)
        q = beta / np.sqrt(alpha_b)

        def eigen(x: np.ndarray, p: float = p, s: float = s, c: float = c, q: float = q) -> np.ndarray:
            first = np.cos(p * x) + s * np.sin(p * x)
            second = c * np.cos(q * (a.thickness + b.thickness - x))
            return np.where(x <= a.thickness, first, second)

        Xa, Xb = eigen(xa), eigen(xb + a.thickness + 1e-15)
        wa, wb = a.rho * a.cp, b.rho * b.cp
        top = wa * np.trapezoid(Xa, xa) + wb * np.trapezoid(Xb, xb)
        norm = wa * np.trapezoid(Xa**2, xa) + wb * np.trapezoid(Xb**2, xb)
        total += top / norm * np.exp(-(beta**2) * time) * eigen(points)
    return total


@pytest.mark.parametrize("time", [60.0, 600.0])
def test_two_layers_with_contact_resistance_follow_the_eigenfunction_series(time: float) -> None:
    layers = (Layer(0.003, 1.05, 2230.0, 800.0, 12, 5e-4), Layer(0.006, 125.0, 2700.0, 900.0, 6))
    body = slab(layers)
    cells = march(body, surroundings(room=300.0, h_top=15.0), 400.0, np.full(round(time / 2), 2.0))
    centres = np.cumsum(body.dx) - 0.5 * body.dx
    expected = two_layer_series(layers, 15.0, time, centres)
    assert expected.max() < 1.0
    np.testing.assert_allclose((cells[-1] - 300.0) / 100.0, expected, atol=6e-4)


def test_composite_wall_resistances_add_up() -> None:
    layers = [
        Layer(0.0006, 45.0, 7800, 480, 3, 3e-4),
        Layer(0.0015, 0.5, 3600, 800, 4, 1e-4),
        Layer(0.008, 125.0, 2700, 900, 5),
    ]
    body = slab(layers)
    found = steady(body, surroundings(room=295.0, h_top=14.0), 380.0)
    R = series_resistance(
        np.array([v.thickness for v in layers]), np.array([v.k for v in layers]), np.array([v.joint for v in layers])
    )
    # the held cell's centre lies half a cell above the insulated face
    R -= 0.5 * body.dx[-1] / 125.0
    flux = (380.0 - 295.0) / (R + 1 / 14.0)
    assert found.power == pytest.approx(flux, rel=1e-9)
    assert found.top == pytest.approx(295.0 + flux / 14.0, abs=1e-7)
    assert found.cells[-1] == pytest.approx(380.0, abs=1e-7)


def test_time_step_error_is_of_first_order() -> None:
    body = slab([Layer(0.02, 1.0, 2000.0, 1000.0, 60)])
    end, exact = 300.0, slab_series(1.0, 300.0 * 1.0 / (2000.0 * 1000.0 * 0.02**2), 1.0 - 0.5 / 60)
    errors = []
    for n in (50, 100, 200):
        cells = march(body, surroundings(room=300.0, h_top=50.0), 400.0, np.full(n, end / n))
        errors.append(abs((cells[-1, 0] - 300.0) / 100.0 - exact))
    assert errors[0] / errors[1] == pytest.approx(2.0, rel=0.15)
    assert errors[1] / errors[2] == pytest.approx(2.0, rel=0.15)
