"""What the air is, and dust in it."""

#: at 20 degrees and sea level [kg/m3]
AIR_DENSITY = 1.2
#: [Pa s]
AIR_VISCOSITY = 1.8e-5
#: [K]
AIR_TEMPERATURE = 293.0
#: how fast a puff of dust takes on the speed of the air about it [1/s]
PUFF_RATE = 3.0
#: light taken out by 1 kg/m3 of fine mineral dust over a metre, 3 Q / (2 rho d) with Q = 2, d = 20 um [m2/kg]
DUST_EXTINCTION = 60.0
