"""How finely a hit breaks a brittle body."""

import math


def mean_size(toughness: float, density: float, stiffness: float, strain_rate: float) -> float:
    """Mean size of the fragments of a brittle body that is stretched fast [m].

    The stretching about a fragment's own middle, rho e'^2 s^2 / 24 a volume, pays for one crack of K_Ic^2 / (rho c^2)
    an area on each length s: s = (sqrt(24) K_Ic / (rho c e'))^(2/3) with c = sqrt(E / rho) (after Grady 1982, Local
    inertial effects and fracture energy in dynamic fragmentation; quoted from memory. Other balances of the same two
    energies change the constant, sqrt(12) to sqrt(40), and so the size by about a quarter).

    Parameters
    ----------
    toughness : float
        K_Ic [Pa sqrt(m)].
    density, stiffness : float
        [kg/m3], [Pa].
    strain_rate : float
        e' [1/s], above 0.
    """
    speed_of_sound = math.sqrt(stiffness / density)
    return (math.sqrt(24.0) * toughness / (density * speed_of_sound * strain_rate)) ** (2.0 / 3.0)
